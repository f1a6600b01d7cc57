"""Signing in, out and up."""
