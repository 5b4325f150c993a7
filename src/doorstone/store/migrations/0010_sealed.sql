-- What rules rest on at a device, sealed: a site, a role or a criticality that was changed by hand is named.
ALTER TABLE devices ADD COLUMN seal TEXT NOT NULL DEFAULT '';
UPDATE devices SET seal = sealed('device ' || id || char(10) || site || char(10) || role || char(10) || critical);
