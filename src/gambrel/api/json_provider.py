"""JSON: answers written in compiled code, as a preview has tens of thousands of numbers."""

from __future__ import annotations

import re
from typing import Any

import orjson
from flask import Response, current_app
from flask.json.provider import DefaultJSONProvider

LONG_NUMBER = re.compile(rb"\d{301}")
OPTIONS = orjson.OPT_SERIALIZE_NUMPY | orjson.OPT_NON_STR_KEYS | orjson.OPT_APPEND_NEWLINE


def fault_of(body: bytes) -> str | None:
    """What of a JSON text no reader can take though its syntax allows it; None where nothing is.

    Half a character cannot be stored or answered, and a whole number of hundreds of digits takes
    time out of proportion.
    """
    if LONG_NUMBER.search(body):
        return "it holds a number of more than 300 digits"
    if b"\\ud" in body.lower():
        try:
            orjson.loads(body)
        except ValueError as error:
            return str(error)
    return None


class JsonAnswers(DefaultJSONProvider):
    """Writes answers with orjson, and what that cannot write as Flask does.

    Requests are read as Flask reads them: they are short, and whole numbers of any size are kept.
    """

    sort_keys = False

    def response(self, *args: Any, **kwargs: Any) -> Response:
        """An answer with the values given, as of `flask.jsonify`."""
        body = self._prepare_response_obj(args, kwargs)
        try:
            text: str | bytes = orjson.dumps(body, option=OPTIONS)
        except orjson.JSONEncodeError:
            # Such as a whole number of more than 64 bits that is named in an error.
            text = self.dumps(body)
        answer: Response = current_app.make_response(text)
        answer.mimetype = self.mimetype
        return answer
