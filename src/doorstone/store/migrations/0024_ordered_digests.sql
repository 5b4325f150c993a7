-- Contents are found by the highest number of their values and a checksum, so that those of devices that are read one
-- after the other stand side by side.
DROP INDEX reading_contents_digest;
