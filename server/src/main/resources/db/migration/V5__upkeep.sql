-- What was done to views that are refreshed from time to time.
CREATE TABLE upkeep_run (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  view_id    bigint NOT NULL,
  began      timestamptz NOT NULL,
  cause      text NOT NULL,
  epoch      bigint NOT NULL,
  read       bigint NOT NULL,
  added      bigint NOT NULL,
  removed    bigint NOT NULL,
  unchanged  bigint NOT NULL,
  late       bigint NOT NULL,
  rejected   bigint NOT NULL,
  micros     bigint NOT NULL,
  failure    text
);
CREATE INDEX upkeep_run_began ON upkeep_run (began);

-- How long it took until what came in was shown, by view and minute.
CREATE TABLE freshness (
  view_id               bigint NOT NULL,
  minute                timestamptz NOT NULL,
  shown                 bigint NOT NULL,
  in_time               bigint NOT NULL,
  arrival_micros        bigint NOT NULL,
  worst_arrival_micros  bigint NOT NULL,
  events                bigint NOT NULL,
  event_micros          bigint NOT NULL,
  worst_event_micros    bigint NOT NULL,
  PRIMARY KEY (minute, view_id)
);
