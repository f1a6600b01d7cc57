"""Accounts: signing in, signing up and out."""
