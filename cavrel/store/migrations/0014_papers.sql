-- PDFs that are asked for: what they are set from until they are made, and what came out, kept by its hash so that it is set once. All of it can
-- be made again.
create table paper (
    digest text primary key,
    source json,
    file text not null,
    body bytea,
    fault text not null default '',
    asked_at timestamptz not null default clock_timestamp(),
    looked_at timestamptz not null default clock_timestamp(),
    made_at timestamptz
);
create index paper_waiting on paper (asked_at) where made_at is null;
