-- What lists and comparisons need of each run, worked out with the save that made it. It can be thrown away and is then made anew: only
-- entries are data. ``last`` is the entry it was made after, ``made_of`` says under which definition and rules and by which version.
create table run_summary (
    run bigint primary key references run,
    last bigint not null,
    made_of text not null,
    title text not null,
    bench text not null,
    away boolean not null,
    words text not null,
    body jsonb not null
);
