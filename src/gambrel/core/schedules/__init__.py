"""When things are due: occurrences, windows, calendars, spread fulls, schedules in words."""
