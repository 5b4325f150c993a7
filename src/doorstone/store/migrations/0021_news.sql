-- The kinds of news that a person gets by mail.
ALTER TABLE people RENAME COLUMN told_of TO news;
