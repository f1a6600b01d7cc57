"""Find anything of one's jobs, pages, and words of the trade, from any page."""
