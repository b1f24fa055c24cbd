"""Rates, timecode and typed times: exact, integer frames at a rational rate. Imports nothing of the rest."""
