"""What is said: transcripts, their place in the sound, captions, fillers. Imports sound and time."""
