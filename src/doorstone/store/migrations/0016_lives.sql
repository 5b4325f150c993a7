-- Lives of devices: in service, set aside, retired, replaced.
ALTER TABLE devices ADD COLUMN life TEXT NOT NULL DEFAULT 'in-service';
CREATE INDEX devices_life ON devices (life) WHERE life <> 'in-service';
CREATE TABLE device_lives (
  id INTEGER PRIMARY KEY,
  device TEXT NOT NULL REFERENCES devices (id),
  life TEXT NOT NULL,
  from_on TEXT NOT NULL,
  reason TEXT NOT NULL,
  look_on TEXT,
  wiped_by TEXT NOT NULL,
  replaced_by TEXT NOT NULL,
  by TEXT NOT NULL,
  at TEXT NOT NULL
) STRICT;
CREATE INDEX device_lives_device ON device_lives (device, id);
