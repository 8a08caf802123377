"""Pages, JSON routes, the live socket and the server."""
