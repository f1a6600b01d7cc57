"""SVG from plain geometry; nothing here knows the trade."""
