"""The audit log: what is noted besides changes, what is sent out, and how long entries stay."""
