"""One use case a function: joins core and store."""
