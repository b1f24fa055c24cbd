"""Cells of tables that other programs open."""

FORMULAS = "=+-@\t\r\n＝＋－＠"  # plain and full-width (OWASP, CSV injection)


def begins_formula(text: str) -> bool:
    """Whether a program that opens the table would take a cell for a formula, not for what it says."""
    return text.lstrip(" \u00a0\u3000")[:1] in FORMULAS if text.strip() else False
