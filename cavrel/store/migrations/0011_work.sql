-- Long work, such as the archive of a course: what is asked for, how far it is, and what it has made. Nothing here but can be made again.
create table work (
    id bigint generated always as identity primary key,
    course bigint not null references course,
    kind text not null,
    options json not null default '{}',
    total int not null,
    done int not null default 0,
    stopped boolean not null default false,
    faults text not null default '',
    file text not null default '',
    body bytea,
    author text not null default '' check (length(author) <= 80),
    made_at timestamptz not null default now(),
    ended_at timestamptz,
    client_key uuid not null unique
);
create index work_to_do on work (id) where ended_at is null;
create table work_part (
    work bigint not null references work,
    run bigint not null,
    name text not null,
    body bytea not null,
    primary key (work, run)
);
