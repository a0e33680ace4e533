"""The synchronous client, made of `_async` by `make client`; do not edit."""
