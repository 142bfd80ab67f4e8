"""What a planner asks about one job: what it takes, when it runs, what it costs, where it fits."""
