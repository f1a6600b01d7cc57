"""SVG drawings from plain geometry, without knowledge of the trade."""
