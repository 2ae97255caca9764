-- How messages have left their declarations, as last counted.
CREATE TABLE drift (
  object_id  bigint NOT NULL,
  field      text NOT NULL,
  what       text NOT NULL,
  messages   bigint NOT NULL,
  type       text NOT NULL,
  example    text NOT NULL,
  origin     text NOT NULL,
  PRIMARY KEY (object_id, field, what)
);
