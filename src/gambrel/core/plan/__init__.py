"""Plans: immutable objects, how they are read and written, what a text or a rule may be."""
