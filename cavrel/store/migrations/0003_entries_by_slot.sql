-- What a slot holds now is asked at every save: a run of thousands of entries must answer as fast as one of ten.
create index entry_by_slot on entry (run, slot, id desc);
