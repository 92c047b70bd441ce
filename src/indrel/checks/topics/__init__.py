"""The checks, one module a topic. Modules here are found by themselves."""
