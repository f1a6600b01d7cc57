"""What charges the battery during a plan: sun, mains or a generator, another battery."""
