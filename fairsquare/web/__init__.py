"""The pages: FastAPI, Jinja and htmx over the same deeds that the API offers."""
