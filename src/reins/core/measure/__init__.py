"""What a setting did over a span, and the numbers behind the pictures."""
