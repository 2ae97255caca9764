-- Who may write here: the service that put its token in last, and holds the session lock.
CREATE TABLE owner (
  only_row  boolean PRIMARY KEY DEFAULT true CHECK (only_row),
  token     text NOT NULL,
  since     timestamptz NOT NULL
);

-- Changes to tables by the id of their request, so that one that is sent again is not made twice.
CREATE TABLE change_made (
  id        text PRIMARY KEY,
  sequence  bigint NOT NULL,
  made_at   timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX change_made_at ON change_made (made_at);
