CREATE TABLE IF NOT EXISTS locks (
	slug   TEXT PRIMARY KEY,
	place  INTEGER NOT NULL,
	name   TEXT NOT NULL,
	length REAL NOT NULL,
	width  REAL NOT NULL,
	state  TEXT NOT NULL CHECK (state IN ('open', 'closed', 'repair'))
) STRICT;

CREATE TABLE IF NOT EXISTS vessels (
	plate     TEXT PRIMARY KEY,
	name      TEXT NOT NULL,
	length    REAL NOT NULL,
	beam      REAL NOT NULL,
	draught   REAL NOT NULL,
	telephone TEXT NOT NULL,
	salt      BLOB NOT NULL,
	pin       BLOB NOT NULL
) STRICT;

CREATE TABLE IF NOT EXISTS passages (
	id        INTEGER PRIMARY KEY AUTOINCREMENT,
	lock      TEXT NOT NULL REFERENCES locks (slug),
	vessel    TEXT NOT NULL REFERENCES vessels (plate),
	direction TEXT NOT NULL CHECK (direction IN ('up', 'down')),
	slot      TEXT NOT NULL,
	crew      INTEGER NOT NULL,
	remark    TEXT,
	UNIQUE (lock, slot)
) STRICT;

CREATE INDEX IF NOT EXISTS passages_of_vessel ON passages (vessel, id);

CREATE TABLE IF NOT EXISTS secrets (secret BLOB NOT NULL) STRICT;

CREATE TABLE IF NOT EXISTS notices (
	slug   TEXT PRIMARY KEY,
	title  TEXT NOT NULL,
	text   TEXT NOT NULL,
	posted TEXT NOT NULL
) STRICT;

CREATE TABLE IF NOT EXISTS locked_accounts (subject TEXT PRIMARY KEY) STRICT;
