"""The estate: what sources say of it, how that differs from the plan, and what protects it."""
