"""The answer bar: the answer to the current plan, on every page of a job."""
