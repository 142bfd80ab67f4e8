"""What comes back when, in which order and from where, after something is gone."""
