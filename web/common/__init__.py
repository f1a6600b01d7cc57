"""Shared parts of the site: records, quantity fields, formatting, middleware."""
