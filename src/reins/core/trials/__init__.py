"""Running chains over takes to look at what they do: spans, pictures, matching. Stands above the engine."""
