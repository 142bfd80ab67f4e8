"""The HTTP API under /api/v1 and the page that uses it."""
