"""The JSON documents that tests provoke, held against the schemas that the documentation gives."""

import json
from functools import cache
from pathlib import Path

from jsonschema import Draft202012Validator

SCHEMAS = Path(__file__).parents[2] / "docs" / "schemas"


def check_document(text: str) -> None:
    """Raise `jsonschema.ValidationError` where a printed document is not as its schema says."""
    document = json.loads(text)
    name, _, number = document["schema"].removeprefix("rabbet.").partition("/")
    assert number == "1", document["schema"]
    _strict_schema(name).validate(document)


@cache
def _strict_schema(name: str) -> Draft202012Validator:
    """The schema of a document, such as `resolve`; here no key may be there that it does not tell of."""
    return Draft202012Validator(_strict(json.loads((SCHEMAS / f"{name}.schema.json").read_text())))


def _strict(schema: object) -> object:
    if isinstance(schema, list):
        return [_strict(part) for part in schema]
    if not isinstance(schema, dict):
        return schema
    inner = {key: _strict(part) for key, part in schema.items()}
    is_object = "type" in inner and isinstance(inner.get("properties"), dict)
    return {"additionalProperties": False, **inner} if is_object else inner
