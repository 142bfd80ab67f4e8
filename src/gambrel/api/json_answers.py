"""Answers written as JSON in compiled code, as a preview has tens of thousands of numbers."""

from __future__ import annotations

from typing import Any

import orjson
from flask import Response, current_app
from flask.json.provider import DefaultJSONProvider

OPTIONS = orjson.OPT_SERIALIZE_NUMPY | orjson.OPT_NON_STR_KEYS | orjson.OPT_APPEND_NEWLINE


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
