-- The apparatus on the screen of a run: its seed, and what goes wrong in it. A change is a row of its own; the newest counts.
create table standin (
    id bigint generated always as identity primary key,
    run bigint not null references run,
    seed bigint not null,
    faults text[] not null default '{}',
    made_at timestamptz not null default now()
);
create index standin_of_run on standin (run, id desc);
create trigger standin_only_grows before update or delete or truncate on standin
    for each statement execute function refuse_change_of_version();
