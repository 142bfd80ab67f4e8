"""Playing a plan forward: the way in, the forecast that comes out, and the two engines."""
