-- Retained events with the messages they were read from, and how many columns the events have.
ALTER TABLE ledger_segment
  ADD COLUMN columns       smallint,
  ADD COLUMN message_bytes integer,
  ADD COLUMN messages      bytea;
ALTER TABLE ledger_segment ALTER COLUMN messages SET STORAGE EXTERNAL;
