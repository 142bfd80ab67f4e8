"""The rules of one thing each: selection, volume, paths, sharing, retention, restore."""
