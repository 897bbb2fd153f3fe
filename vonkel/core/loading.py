"""From a document and arrays, as they are stored, to a character of the present version."""

from __future__ import annotations

import json
import logging
from typing import Annotated

from pydantic import BaseModel, BeforeValidator

from .character import Arrays, Character
from .character.upgrade import VERSION, known_version, upgraded
from .rig.fitting import with_controls_anew

log = logging.getLogger("vonkel.loading")


class _Form(BaseModel):
    """What is looked at first: of which version the document is."""

    version: Annotated[int, BeforeValidator(known_version)] = 1


def loaded(document: str, arrays: Arrays) -> Character:
    """A character from its document (JSON, of any version up to the present one) and arrays.

    Raises pydantic's ValidationError for what is no character's document, and for a newer one.
    """
    version = _Form.model_validate_json(document).version
    text = document if version == VERSION else json.dumps(upgraded(json.loads(document)))
    made = Character.model_validate_json(text).with_().model_copy(update={"arrays": arrays})
    return made if version == VERSION else _with_keys(made)


def _with_keys(character: Character) -> Character:
    """The character's controls as its kits make them today: each with its key, and with the channels it has now."""
    try:
        return with_controls_anew(character, {k.name for k in character.kits})
    except Exception:  # a file may say anything of a kit: soundness refuses it in words
        log.info("an older document's kits can't be made anew", exc_info=True)
        return character
