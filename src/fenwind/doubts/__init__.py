"""The job is checked all the time; one small function a rule, grouped by subject, in one registry."""
