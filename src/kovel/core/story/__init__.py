"""The story: its model, every edit and what follows from it, patches, the lined page. Imports words, sound and time."""
