-- Courses that people make: when they run, by which clock, and who may add a bench. A bench that has runs is taken out of the list, never deleted.
alter table course add column begins date;
alter table course add column ends date;
alter table course add column zone text not null default '' check (length(zone) <= 60);
alter table course add column joining text not null default 'listed' check (joining in ('listed', 'open'));
alter table course add column client_key uuid unique;
alter table bench add column away boolean not null default false;
