-- Sensors that send samples into a run: a token for each run, a take for each time somebody listens, and its samples in blocks as they came.
create table live_token (
    run bigint primary key references run,
    token text not null unique
);
create table live_take (
    id bigint generated always as identity primary key,
    run bigint not null references run,
    place text not null,
    began_at timestamptz not null default now(),
    ended_at timestamptz
);
create index live_take_of_run on live_take (run, id desc);
create table live_block (
    take bigint not null references live_take,
    seq bigint not null,
    times double precision[] not null,
    samples double precision[] not null,
    came_at timestamptz not null default now(),
    primary key (take, seq)
);
