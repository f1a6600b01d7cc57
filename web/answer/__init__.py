"""The answer bar: what the current plan comes to, on every page of a job."""
