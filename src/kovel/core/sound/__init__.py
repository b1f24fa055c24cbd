"""Sound as numbers: levels, pauses, hits, beats, one moment by sound. Imports time alone."""
