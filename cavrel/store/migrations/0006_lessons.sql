-- Lessons of a course; every change is a state of its own, so that nothing a person did is lost.
create table lesson (
    id bigint generated always as identity primary key,
    course bigint not null references course,
    made_at timestamptz not null default now(),
    client_key uuid not null unique
);
create table lesson_state (
    lesson bigint not null references lesson,
    state int not null check (state > 0),
    body json not null,
    started timestamptz,
    made_at timestamptz not null default now(),
    primary key (lesson, state)
);
create trigger lesson_only_grows before update or delete or truncate on lesson_state
    for each statement execute function refuse_change_of_version();
-- What is called in every page: lessons that have begun, waits that a bench started.
create index lesson_started on lesson_state (started) where started is not null;
create index entry_calls on entry (saved_at) where kind = 'timer' and body ? 'until';
