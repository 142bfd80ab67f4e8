"""A better week: moves, the search for them, what they bring, and how far any plan could go."""
