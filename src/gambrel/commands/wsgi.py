"""What gunicorn serves."""

from __future__ import annotations

import os

from apiflask import APIFlask

from gambrel.api.app import create_app, ready_workers, warm_up, watch_sources
from gambrel.commands.places import PAGES


def application() -> APIFlask:
    """The application on the database and with the key that the environment names."""
    app = create_app(
        os.environ["GAMBREL_DATABASE_URL"],
        os.environ["GAMBREL_SECRET_KEY"],
        os.environ["GAMBREL_SEALING_KEY"],
        pages=PAGES,
    )
    watch_sources(app)
    warm_up(app)
    ready_workers(app)
    return app
