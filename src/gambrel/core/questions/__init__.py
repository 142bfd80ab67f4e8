"""What a planner asks of a plan or of a job, answered by simulation."""
