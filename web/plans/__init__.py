"""Day plan: loads on a supply, hour by hour."""
