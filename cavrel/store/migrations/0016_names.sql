-- Tables and columns are called what the pages call them.
alter table cupboard rename to laboratory;
alter table run rename column cupboard to laboratory;
alter table brought rename to imported;
