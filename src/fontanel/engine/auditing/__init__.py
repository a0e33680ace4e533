"""The audit log: entries for what changes nothing, and sending entries elsewhere."""
