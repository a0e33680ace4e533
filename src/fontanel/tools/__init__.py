"""The service as tools and resources of the Model Context Protocol, for programs with a model.

Everything is done with the client library, over HTTP at `/mcp` as on standard input and output.
"""
