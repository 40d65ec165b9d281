"""The datum sheet: its model, the spans between its points, and what differs between two versions."""
