-- Experiments that a course wrote itself. Versions are only ever added; runs are pinned to a definition, not to a version.
create table own_experiment (
    id bigint generated always as identity primary key,
    course bigint not null references course,
    experiment text not null check (experiment ~ '^[a-z][a-z0-9-]{0,39}$'),
    version integer not null check (version >= 1),
    body text not null check (length(body) <= 200000),
    definition text not null references definition,
    made_at timestamptz not null default now(),
    client_key uuid not null unique,
    unique (course, experiment, version)
);
create trigger own_experiment_only_grows before update or delete or truncate on own_experiment
    for each statement execute function refuse_change();

-- The order of columns and results carries meaning, and jsonb does not keep it.
alter table definition alter column body type json using body::text::json;
