"""Judgements: will it start."""
