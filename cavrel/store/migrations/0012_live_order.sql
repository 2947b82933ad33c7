-- Blocks are handed on in the order in which they were kept, whatever their sensor numbers them; a take knows its unit and its sensor.
alter table live_block add column arrived bigint generated always as identity;
create index live_block_of_take on live_block (take, arrived);
alter table live_take add column unit text not null default '';
alter table live_take add column source text not null default '';
