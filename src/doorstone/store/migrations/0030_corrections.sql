-- A wrong record stays, and another says that it is put right by it. What was corrected counts for nothing.
CREATE TABLE corrected_attempts (
  attempt INTEGER PRIMARY KEY REFERENCES attempts (id),
  by INTEGER NOT NULL REFERENCES attempts (id)
) STRICT;
CREATE INDEX corrected_attempts_by ON corrected_attempts (by);
CREATE TABLE corrected_observations (
  observation INTEGER PRIMARY KEY REFERENCES observations (id),
  by INTEGER NOT NULL REFERENCES observations (id)
) STRICT;
CREATE INDEX corrected_observations_by ON corrected_observations (by);
CREATE VIEW standing_attempts AS
  SELECT * FROM attempts AS a WHERE NOT EXISTS (SELECT 1 FROM corrected_attempts AS c WHERE c.attempt = a.id);
CREATE VIEW standing_observations AS
  SELECT * FROM observations AS o WHERE NOT EXISTS (SELECT 1 FROM corrected_observations AS c WHERE c.observation = o.id);
CREATE VIEW standing_followups AS
  SELECT * FROM followups AS f WHERE NOT EXISTS (SELECT 1 FROM corrected_attempts AS c WHERE c.attempt = f.attempt);
