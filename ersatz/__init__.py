"""Ersatz: remake a club track."""
