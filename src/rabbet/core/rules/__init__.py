"""Rules on what a lock may hold: known vulnerabilities, licences, age and origin."""
