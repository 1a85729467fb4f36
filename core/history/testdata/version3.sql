CREATE TABLE run (
	id INTEGER PRIMARY KEY,
	job INTEGER NOT NULL,            -- the run of the task that was asked for; its own id for that one
	role TEXT NOT NULL,              -- before, with, task or after
	task TEXT NOT NULL,              -- the task's id
	args TEXT NOT NULL,              -- JSON, a list
	command TEXT NOT NULL,
	dir TEXT NOT NULL,
	env TEXT NOT NULL,               -- JSON, a list: what the task adds to the environment, most of it without values
	hash TEXT NOT NULL,              -- of the commit, "" if there is none
	dirty INTEGER,                   -- 1 if files differ from the commit, NULL if that is not known
	start INTEGER NOT NULL,          -- nanoseconds since 1970
	"end" INTEGER,                   -- NULL while it runs
	cpu INTEGER NOT NULL DEFAULT 0,  -- nanoseconds
	memory INTEGER NOT NULL DEFAULT 0, -- bytes of the largest process
	state TEXT NOT NULL,             -- running, ok, failed, stopped, timedOut or interrupted
	exit INTEGER NOT NULL DEFAULT 0,
	signal TEXT NOT NULL DEFAULT '',
	fault TEXT NOT NULL DEFAULT '',
	errors INTEGER NOT NULL DEFAULT 0,
	warnings INTEGER NOT NULL DEFAULT 0,
	notes INTEGER NOT NULL DEFAULT 0,
	new INTEGER NOT NULL DEFAULT 0,
	still INTEGER NOT NULL DEFAULT 0,
	gone INTEGER NOT NULL DEFAULT 0,
	notChecked INTEGER NOT NULL DEFAULT 0,
	rule INTEGER NOT NULL DEFAULT 0, -- by which its problems were compared; 0 for none, or one of an earlier version
	bytes INTEGER NOT NULL DEFAULT 0, -- printed
	spool TEXT NOT NULL DEFAULT '',  -- the file with the output, until that is below
	spoolStart INTEGER NOT NULL DEFAULT 0, -- the byte of that file at which the output begins
	owner TEXT NOT NULL DEFAULT '',  -- the program that runs it: process id and start
	elsewhere TEXT NOT NULL DEFAULT '' -- what a batch system has of it, by which a later program takes it up
);
CREATE INDEX run_task ON run (task, id);
CREATE INDEX run_job ON run (job);
CREATE INDEX run_good ON run (task, id) WHERE state = 'ok';
CREATE INDEX run_elsewhere ON run (elsewhere) WHERE elsewhere != '';
CREATE INDEX run_open ON run (id) WHERE "end" IS NULL OR spool != '';
CREATE TABLE output (
	run INTEGER PRIMARY KEY,
	size INTEGER NOT NULL,           -- of data, in bytes
	cut INTEGER NOT NULL,            -- bytes that are missing at its beginning
	data BLOB NOT NULL               -- gzip
);
CREATE INDEX output_size ON output (size);
CREATE TABLE standing (              -- the problems that were known after a run
	run INTEGER PRIMARY KEY,
	data BLOB NOT NULL               -- gzip of JSON
);
CREATE TABLE gone (                  -- problems that a run no longer reported
	id INTEGER PRIMARY KEY,
	task TEXT NOT NULL,
	run INTEGER NOT NULL,
	first INTEGER NOT NULL,          -- the run that reported it first
	last INTEGER NOT NULL,           -- and last
	seen INTEGER NOT NULL,           -- by so many runs
	problem TEXT NOT NULL            -- JSON
);
CREATE INDEX gone_run ON gone (run);
CREATE TABLE preset (
	task TEXT NOT NULL,
	name TEXT NOT NULL,
	args TEXT NOT NULL,              -- JSON, a list
	PRIMARY KEY (task, name)
);
CREATE TABLE known (
	task TEXT NOT NULL,
	origin TEXT NOT NULL,            -- declared or watched
	data BLOB NOT NULL,              -- gzip of JSON, see core/learn
	PRIMARY KEY (task, origin)
);