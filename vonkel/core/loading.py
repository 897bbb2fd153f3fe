"""From a document and arrays, as they are stored, to a character of the present version."""

from __future__ import annotations

import json
import logging

from pydantic import ValidationError
from pydantic_core import InitErrorDetails, PydanticCustomError

from .character import Arrays, Character
from .character.upgrade import VERSION, upgraded, version_of
from .rig.fitting import with_controls_anew

log = logging.getLogger("vonkel.loading")


def loaded(document: str, arrays: Arrays) -> Character:
    """A character from its document (JSON, of any version up to the present one) and arrays.

    Raises pydantic's ValidationError for what is no character's document, and for a newer one.
    """
    raw = json.loads(document)
    try:
        version = version_of(raw)
    except ValueError as error:
        fault = PydanticCustomError("version", "{why}", {"why": str(error)})
        raise ValidationError.from_exception_data(
            "Character", [InitErrorDetails(type=fault, loc=("version",), input=raw)]
        ) from None
    if version == VERSION:
        return Character.model_validate_json(document).with_().model_copy(update={"arrays": arrays})
    read = Character.model_validate_json(json.dumps(upgraded(raw))).with_().model_copy(update={"arrays": arrays})
    return _with_keys(read)


def _with_keys(character: Character) -> Character:
    """The character's controls as its kits make them today: each with its key, and with the channels it has now."""
    try:
        return with_controls_anew(character, {k.name for k in character.kits})
    except Exception:  # a file may say anything of a kit: soundness refuses it in words
        log.info("an older document's kits can't be made anew", exc_info=True)
        return character
