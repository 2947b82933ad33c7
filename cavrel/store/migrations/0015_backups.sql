-- Backups that this server made by itself: when, where, and whether one could be put back.
create table backup_made (
    id bigint generated always as identity primary key,
    made_at timestamptz not null default now(),
    file text not null,
    bytes bigint not null default 0,
    tried_at timestamptz,
    fault text not null default ''
);
