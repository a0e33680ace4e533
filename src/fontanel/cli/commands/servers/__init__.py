"""Commands about servers that the service asks: models, embedders, transcribers, simulators."""
