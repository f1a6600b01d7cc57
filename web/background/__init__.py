"""Answers that take long, worked out beside the requests: on a pool or on a queue."""
