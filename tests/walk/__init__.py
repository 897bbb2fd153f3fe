"""Random steps over the whole registry.  `python -m tests.walk 10000` takes a long walk."""
