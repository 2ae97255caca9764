-- Who there is. 0 is no bound of its own.
CREATE TABLE role (
  name              text PRIMARY KEY,
  made              bigint GENERATED ALWAYS AS IDENTITY,
  owner             boolean NOT NULL,
  shared            boolean NOT NULL,
  statement_millis  bigint NOT NULL,
  max_rows          bigint NOT NULL,
  max_memory        bigint NOT NULL,
  max_body          bigint NOT NULL,
  per_second        bigint NOT NULL,
  connections       bigint NOT NULL,
  salt              bytea NOT NULL
);

-- Who may do what; without a name, to all that the schema has.
CREATE TABLE role_grant (
  role       text NOT NULL REFERENCES role ON DELETE CASCADE,
  privilege  text NOT NULL,
  schema     text NOT NULL,
  name       text
);
CREATE UNIQUE INDEX role_grant_once ON role_grant (role, privilege, schema, COALESCE(name, ''));

-- What roles prove themselves by: never the token, only what it can be checked by.
CREATE TABLE token (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  role        text NOT NULL REFERENCES role ON DELETE CASCADE,
  name        text NOT NULL,
  digest      bytea NOT NULL UNIQUE,
  stored_key  bytea NOT NULL,
  server_key  bytea NOT NULL,
  made_at     timestamptz NOT NULL,
  made_by     text NOT NULL,
  expires_at  timestamptz,
  revoked_at  timestamptz,
  used_at     timestamptz
);

-- What was done, by whom.
CREATE TABLE journal (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at      timestamptz NOT NULL,
  role    text NOT NULL,
  via     text,
  what    text NOT NULL,
  object  text,
  detail  text,
  times   bigint NOT NULL
);
CREATE INDEX journal_at ON journal (at);
