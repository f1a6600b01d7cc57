"""The measuring round: what to measure in a visit, in which order, with the meters at hand."""
