"""Background work: one file a job, on Procrastinate."""
