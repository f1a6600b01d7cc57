"""The printable sheet of a job's plan: on the page, as a PDF, and as tables."""
