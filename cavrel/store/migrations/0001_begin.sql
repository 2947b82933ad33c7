create table course (
    id bigint generated always as identity primary key,
    slug text not null unique check (slug ~ '^[a-z][a-z0-9-]{0,39}$'),
    title text not null check (length(title) between 1 and 120),
    place text not null default '',
    rules jsonb not null default '{}',
    made_at timestamptz not null default now()
);

create table bench (
    id bigint generated always as identity primary key,
    course bigint not null references course,
    name text not null check (length(name) between 1 and 40),
    unique (course, name)
);

-- A run stays pinned to the definition it began with, whatever happens to the catalogue.
create table definition (
    hash text primary key,
    experiment text not null,
    body jsonb not null,
    made_at timestamptz not null default now()
);

create table run (
    id bigint generated always as identity primary key,
    course bigint not null references course,
    bench bigint not null references bench,
    definition text not null references definition,
    title text not null check (length(title) between 1 and 120),
    rules jsonb not null default '{}',
    instruments jsonb not null default '{}',
    made_at timestamptz not null default now(),
    client_key uuid not null unique
);
create index run_by_course on run (course, id);

create table entry (
    id bigint generated always as identity primary key,
    run bigint not null references run,
    kind text not null,
    slot text not null check (length(slot) <= 160),
    body jsonb not null,
    author text not null check (length(author) <= 80),
    made_at timestamptz not null,
    saved_at timestamptz not null default now(),
    client_key uuid not null unique
);
create index entry_by_run on entry (run, id);

create function refuse_change() returns trigger language plpgsql as $$
begin
    raise exception 'the logbook only grows: % of an entry is refused', tg_op;
end $$;
create trigger entry_only_grows before update or delete or truncate on entry
    for each statement execute function refuse_change();

-- What all application processes of one database share, such as the key that signs sessions.
create table setting (
    name text primary key,
    value text not null
);
