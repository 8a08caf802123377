"""What is known of the demo session without making it."""

DEMO_ID = "last-boat-home"
NAME = "Last Boat Home"
TEMPO_BPM = 96.0
