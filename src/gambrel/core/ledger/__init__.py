"""What really ran: events from runners, records of runs, predicted against actual, the report."""
