"""The asynchronous client, of which `_sync` is made by `make client`."""
