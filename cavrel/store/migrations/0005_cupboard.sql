-- The laboratory's cupboard, version after version; a run keeps the version it began with until someone takes it to a newer one.
create table cupboard (
    course bigint not null references course,
    version int not null check (version > 0),
    body json not null,
    digest text not null,
    author text not null default '' check (length(author) <= 80),
    made_at timestamptz not null default now(),
    client_key uuid unique,
    primary key (course, version)
);
insert into cupboard (course, version, body, digest)
    select id, 1, json_build_object('format', 'cavrel-cupboard/1', 'rules', rules), md5(rules::text) from course;
create function refuse_change_of_version() returns trigger language plpgsql as $$
begin
    raise exception 'a version of the cupboard stays as it is: % is refused', tg_op;
end $$;
create trigger cupboard_only_grows before update or delete or truncate on cupboard
    for each statement execute function refuse_change_of_version();

alter table run add column cupboard int not null default 1;
alter table run alter column cupboard drop default;
alter table run add foreign key (course, cupboard) references cupboard (course, version);
alter table course drop column rules;
