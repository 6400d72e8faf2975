"""The computation: no Django, no HTML, no database."""
