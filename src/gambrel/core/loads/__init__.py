"""Load over time: of a pool or resource, of whole nights, in lanes, in one machine-run."""
