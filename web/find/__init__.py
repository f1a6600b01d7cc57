"""Search for records, pages and terms, from any page."""
