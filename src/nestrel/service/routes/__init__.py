"""The HTTP routes, one module for each resource."""
