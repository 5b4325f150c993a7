"""The Northmere scenario: sheets, devices, people, and their seeding."""
