"""What the models of queries have in common."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import werkzeug.datastructures
from flask_openapi3 import FileStorage
from pydantic import BaseModel


class Upload(FileStorage):
    """A file that was sent; a text in its place is none."""

    @classmethod
    def validate(cls, value: Any, *_args: Any, **_kwargs: Any) -> Any:
        """Refuse what is no file."""
        if not isinstance(value, werkzeug.datastructures.FileStorage):
            raise ValueError("Send the list as a file")
        return value


class Query(BaseModel):
    """What stands after the question mark of an address."""

    @classmethod
    def model_json_schema(cls, *args: Any, **kwargs: Any) -> dict[str, Any]:
        """Asked for with every request, and worked out once."""
        return super().model_json_schema(*args, **kwargs) if args or kwargs else _schema(cls)


@lru_cache(maxsize=64)
def _schema(query: type[Query]) -> dict[str, Any]:
    return super(Query, query).model_json_schema()
