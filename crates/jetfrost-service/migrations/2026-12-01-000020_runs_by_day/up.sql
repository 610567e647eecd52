-- What became of the backups of a day is counted for each of the last days, whenever somebody opens the console.
CREATE INDEX runs_by_end ON runs (ended, outcome);
CREATE INDEX waits_by_end ON waits (until);
