-- Signed reports: what each held when it was signed, with all that its numbers rest on.
create table report (
    run bigint not null references run,
    version int not null check (version > 0),
    body json not null,
    digest text not null,
    last bigint not null,
    author text not null check (length(author) between 1 and 80),
    made_at timestamptz not null default now(),
    client_key uuid not null unique,
    primary key (run, version)
);
create trigger report_only_grows before update or delete or truncate on report
    for each statement execute function refuse_change_of_version();
