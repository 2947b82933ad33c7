-- Runs that were brought in from a file, with the cupboard they were made by: it counts until an entry after the last one that came along
-- takes the run to one of the course's own.
create table brought (
    run bigint primary key references run,
    last bigint not null,
    body json not null,
    digest text not null,
    file text not null check (length(file) <= 200),
    sha256 text not null,
    author text not null check (length(author) <= 80),
    made_at timestamptz not null default now()
);
create index brought_by_digest on brought (digest);
create trigger brought_only_grows before update or delete or truncate on brought
    for each statement execute function refuse_change_of_version();
