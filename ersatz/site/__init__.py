"""Settings, urls, wsgi."""
