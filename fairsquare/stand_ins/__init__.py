"""Simulated instruments and vehicles: separate processes that speak the public API, as a real one would."""
