"""The fixed numbers of the planning model."""

from gambrel.core.units import DAY, MIB

PREPARE_VM_S = 20.0
PREPARE_SERVER_S = 5.0
"""What a machine prepares for, besides `quiesce_s` (section 6)."""
RELEASE_S = 10.0
RELEASE_BYTES_PER_S = 100 * MIB
"""How long a VM's snapshot takes to go (section 6)."""
TRANSFORM_WORK = 2.0
BLOCK_CLONE_WORK = TRANSFORM_WORK / 50
"""Bytes that a transform or merge moves for each stored byte of its point (section 7)."""
OPENS_WITHIN = 8 * DAY
"""A window that opens later than this after an occurrence is too late; exactly this counts."""
FOLLOWED_AFTER_END = 30 * DAY
"""What has not ended this long after the horizon is cut off there (section 6)."""
RESTORE_SET_UP_S = 120.0
RESTORE_PER_POINT_S = 20.0
"""How long a restore is set up: as such, and for each point of the chain (sections 10 and 14)."""
SAME_POINT_S = 0.0005
"""A point is named by its start to the millisecond (section 14)."""
NO_LOAD = 1e-6
"""Gambrel takes a smaller load for none; in the unit of its load (slots, Mbit/s or MiB/s)."""
FULL_LOAD = 0.999
"""A load of this part of the capacity counts as full."""
