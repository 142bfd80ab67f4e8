"""Changes of a plan: operations, edits of items, splits, conflicts, what differs."""
