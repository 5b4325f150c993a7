-- A day's readings move every device in each index of days: one serves for what was not read since, and for what has aged
-- out.
DROP INDEX devices_standing;
DROP INDEX devices_read;
CREATE INDEX devices_read ON devices (SUBSTR(last_read_at, 1, 10), stands_until);
