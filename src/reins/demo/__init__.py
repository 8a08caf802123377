"""The demo session “Last Boat Home”: synthesised, deterministic, with planted faults."""
