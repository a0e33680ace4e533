"""Routes for running the service: the audit log, backups."""
