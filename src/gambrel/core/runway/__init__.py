"""How long the space lasts: months ahead, occupancy, tiers, the next purchase."""
