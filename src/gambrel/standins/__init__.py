"""Simulated sources: managers, hosts and agents of three makes, with a life of their own."""
