"""Chains, tracks and the mix, driven by the offline and the live clock."""
