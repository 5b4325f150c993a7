-- One kit may serve several devices of the same case. `device` in kits is the first of them.
CREATE TABLE kit_devices (
    kit INTEGER NOT NULL REFERENCES kits (id),
    device TEXT NOT NULL REFERENCES devices (id),
    PRIMARY KEY (kit, device)
) STRICT, WITHOUT ROWID;
CREATE INDEX kit_devices_device ON kit_devices (device, kit);
INSERT INTO kit_devices (kit, device) SELECT id, device FROM kits;

-- The last day of a kit: that of the first of its exceptions to lapse. Warnings that were waived, gate -> reason (JSON).
ALTER TABLE kits ADD COLUMN expires_on TEXT;
ALTER TABLE kits ADD COLUMN waived TEXT NOT NULL DEFAULT '{}';
