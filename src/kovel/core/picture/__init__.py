"""Pictures as numbers: colour codings, shots, movement. Imports time alone."""
