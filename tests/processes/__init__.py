"""Processes of the service and the command line that start within milliseconds."""
