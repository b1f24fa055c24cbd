"""Kovel: from hours of interview to a story cut."""

__version__ = "0.1.0"
