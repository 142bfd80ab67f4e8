"""What gunicorn serves."""

from __future__ import annotations

import os

from apiflask import APIFlask

from gambrel.api.app import create_app, warm_up
from gambrel.commands.places import PAGES


def application() -> APIFlask:
    """The application on the database and with the key that the environment names."""
    app = create_app(
        os.environ["GAMBREL_DATABASE_URL"], os.environ["GAMBREL_SECRET_KEY"], pages=PAGES
    )
    warm_up(app)
    return app
