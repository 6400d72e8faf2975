"""The Django application: models, views, jobs, templates, static modules. What is computed is the core's."""
