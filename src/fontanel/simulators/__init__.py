"""Small simulated outside services, for the demo and for trying things out where the real ones cannot run."""
