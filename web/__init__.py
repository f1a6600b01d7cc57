"""The site: one app per place, thin views over the core."""
