package ledger

// steps bring a ledger from each version of its tables to the next. A step, once
// released, never changes: what is to be otherwise is a further step. Each runs
// in one transaction together with the new version number.
//
// Times are microseconds since 1970 UTC, durations milliseconds, checksums
// hexadecimal SHA-256. The types are those that SQLite and PostgreSQL share.
var steps = []string{
	// 1: runs, and what came of them.
	`CREATE TABLE runs (
		run       TEXT PRIMARY KEY,          -- 16 hexadecimal digits, as in the record's head
		command   TEXT NOT NULL,             -- run or link test
		unit      TEXT NOT NULL,             -- '' if none was named
		title     TEXT NOT NULL,             -- of the procedure, or the ports of a link test
		began     BIGINT NOT NULL,
		took_ms   DOUBLE PRECISION NOT NULL,
		verdict   TEXT NOT NULL,             -- 'unfinished' until it has one
		why       TEXT NOT NULL,
		operator  TEXT NOT NULL,
		machine   TEXT NOT NULL,
		tool      TEXT NOT NULL,
		bench     TEXT NOT NULL,
		record    TEXT NOT NULL              -- where it lies; '' if there is none
	);
	CREATE INDEX runs_by_unit ON runs (unit, began);
	CREATE INDEX runs_by_time ON runs (began);
	CREATE TABLE steps (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,
		title     TEXT NOT NULL,
		verdict   TEXT NOT NULL,
		tries     INTEGER NOT NULL,
		took_ms   DOUBLE PRECISION NOT NULL,
		why       TEXT NOT NULL,
		PRIMARY KEY (run, number)
	);
	CREATE TABLE measurements (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,
		what      TEXT NOT NULL,
		value     DOUBLE PRECISION NOT NULL,
		low       DOUBLE PRECISION,
		high      DOUBLE PRECISION,
		unit      TEXT NOT NULL,             -- of the value
		step      TEXT NOT NULL,
		verdict   TEXT NOT NULL,
		PRIMARY KEY (run, number)
	);
	CREATE INDEX measurements_by_name ON measurements (what);
	CREATE TABLE links (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,
		sender    TEXT NOT NULL,
		receiver  TEXT NOT NULL,
		sent      BIGINT NOT NULL,
		lost      BIGINT NOT NULL,
		late      BIGINT NOT NULL,
		median_ms DOUBLE PRECISION,
		p95_ms    DOUBLE PRECISION,
		strength  DOUBLE PRECISION,          -- mean, dBm
		verdict   TEXT NOT NULL,
		PRIMARY KEY (run, number)
	)`,

	// 2: what was kept beside the record, what was read for the run, and the
	// checksum of the record itself.
	`ALTER TABLE runs ADD COLUMN record_sum TEXT NOT NULL DEFAULT '';
	CREATE TABLE files (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,
		role      TEXT NOT NULL,             -- used or kept
		path      TEXT NOT NULL,
		sha256    TEXT NOT NULL,
		PRIMARY KEY (run, number)
	)`,

	// 3: how many further tries a person asked for.
	"ALTER TABLE runs ADD COLUMN by_hand INTEGER NOT NULL DEFAULT 0",

	// 4: values that are texts, when each was measured, and the inputs of a run.
	`ALTER TABLE measurements ADD COLUMN text TEXT;
	ALTER TABLE measurements ADD COLUMN measured BIGINT;
	CREATE TABLE inputs (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,
		name      TEXT NOT NULL,
		value     TEXT NOT NULL,
		PRIMARY KEY (run, number)
	)`,

	// 5: values over time. Least, mean and the like are NULL where no value was a number;
	// packed is as uparrot/core/series packs samples.
	`ALTER TABLE measurements ADD COLUMN series INTEGER;
	CREATE TABLE series (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,
		what      TEXT NOT NULL,
		unit      TEXT NOT NULL,             -- of the values
		low       DOUBLE PRECISION,
		high      DOUBLE PRECISION,
		step      TEXT NOT NULL,
		n         BIGINT NOT NULL,
		none      BIGINT NOT NULL,           -- values that are no number
		least     DOUBLE PRECISION,
		mean      DOUBLE PRECISION,
		greatest  DOUBLE PRECISION,
		spread    DOUBLE PRECISION,          -- standard deviation
		latest    DOUBLE PRECISION,
		rate_hz   DOUBLE PRECISION NOT NULL,
		silence_s DOUBLE PRECISION NOT NULL, -- the longest time between two values
		outside   BIGINT NOT NULL,
		first_outside DOUBLE PRECISION,
		first_outside_at BIGINT,
		began     BIGINT NOT NULL,
		ended     BIGINT NOT NULL,
		moved     INTEGER NOT NULL,          -- 1 if the limits were not the same for all
		texts     INTEGER NOT NULL,          -- different texts, of a series of texts
		last_text TEXT,
		PRIMARY KEY (run, number)
	);
	CREATE INDEX series_by_name ON series (what);
	CREATE TABLE samples (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,          -- of the series
		part      INTEGER NOT NULL,
		n         INTEGER NOT NULL,
		packed    BYTEA NOT NULL,
		PRIMARY KEY (run, number, part)
	)`,

	// 6: settings of modules, as they were read.
	`CREATE TABLE settings (
		run       TEXT NOT NULL REFERENCES runs (run),
		number    INTEGER NOT NULL,
		module    TEXT NOT NULL,             -- the port
		family    TEXT NOT NULL,
		moment    TEXT NOT NULL,             -- as found, or as left
		identity  INTEGER NOT NULL,          -- 1 for what the module says that it is
		name      TEXT NOT NULL,
		value     TEXT NOT NULL,
		why_none  TEXT NOT NULL,             -- '' if it has a value
		pair      TEXT NOT NULL,             -- what modules of one system must have: equal, different, or ''
		told      BIGINT NOT NULL,
		PRIMARY KEY (run, number)
	)`,

	// 7: units that several stations work through, and values that are given out once.
	`CREATE TABLE batches (
		batch     TEXT PRIMARY KEY,
		title     TEXT NOT NULL,             -- of the procedure; '' until a station has begun
		columns   TEXT NOT NULL,             -- JSON, as in the table's head
		path      TEXT NOT NULL,             -- of the table
		loaded    BIGINT NOT NULL,
		loaded_by TEXT NOT NULL
	);
	CREATE TABLE units (
		batch     TEXT NOT NULL REFERENCES batches (batch),
		number    INTEGER NOT NULL,
		unit      TEXT NOT NULL,
		line      INTEGER NOT NULL,          -- in the table
		given     TEXT NOT NULL,             -- JSON, the cells by column
		state     TEXT NOT NULL,             -- open, claimed, or the verdict of the run that ended it
		station   TEXT NOT NULL,             -- that claimed it last
		token     BIGINT NOT NULL,           -- grows whenever it is claimed or released
		lease     BIGINT NOT NULL,           -- until when it is claimed, by the server's clock
		lasts     BIGINT NOT NULL,           -- microseconds for which a claim lasts
		run       TEXT NOT NULL,             -- that ended it
		why       TEXT NOT NULL,
		PRIMARY KEY (batch, unit)
	);
	CREATE INDEX units_by_state ON units (batch, state, number);
	CREATE TABLE conflicts (
		run       TEXT PRIMARY KEY,          -- that ended when its claim was no longer the latest
		batch     TEXT NOT NULL,
		unit      TEXT NOT NULL,
		station   TEXT NOT NULL,
		token     BIGINT NOT NULL,
		verdict   TEXT NOT NULL,
		told      BIGINT NOT NULL
	);
	CREATE TABLE pools (
		pool      TEXT NOT NULL,
		number    INTEGER NOT NULL,
		value     TEXT NOT NULL,
		state     TEXT NOT NULL,             -- free, given (not known to be said), or said
		unit      TEXT NOT NULL,             -- that it was given to
		name      TEXT NOT NULL,             -- of the procedure's input
		draw      BIGINT NOT NULL,           -- grows whenever it is given out
		given     BIGINT NOT NULL,
		secret    INTEGER NOT NULL,          -- 1 if it is shown nowhere
		PRIMARY KEY (pool, value)
	);
	CREATE INDEX pools_by_state ON pools (pool, state, number);
	CREATE UNIQUE INDEX pools_by_unit ON pools (pool, unit, name) WHERE unit <> '';
	CREATE INDEX settings_by_value ON settings (identity, value)`,

	// 8: secrets of pools, encrypted: the value is then a digest under the same key.
	"ALTER TABLE pools ADD COLUMN sealed TEXT NOT NULL DEFAULT ''",
}

// tables are the ledger's tables of runs, in the order in which they refer to each other.
var tables = []string{"runs", "steps", "measurements", "links", "files", "inputs", "series", "samples", "settings"}
