"""Pulls: what holds the vehicle, what the chains take, what comes back, and in which order to pull."""
