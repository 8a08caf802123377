"""Sound and numbers only: knows neither web nor store, and is tested on its own."""
