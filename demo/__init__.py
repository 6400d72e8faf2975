"""The demo scenario: Pier Nine Radio's two references, made here from nothing, and what seeds the database."""
