"""The interface for scripts: JSON over HTTP, described by OpenAPI at /api/openapi.json and readable at /api."""
