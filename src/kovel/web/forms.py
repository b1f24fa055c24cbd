"""Forms as they are sent, read into models: strings end here.

A field that was emptied is an empty text, not a missing one (an editor who clears a note means it); a field that was
not sent is not set, so a model's `model_fields_set` tells what is to be changed.
"""

from typing import Annotated, Any

from fastapi import Depends, Request
from fastapi.exceptions import RequestValidationError
from pydantic import BaseModel, BeforeValidator, ConfigDict, TypeAdapter, ValidationError

from kovel.core.errors import Invalid, Told

MOST_IDS = 20_000  # numbers that an address may list
DIGITS = 15  # of one: more than any number of ours has


def ids_in(text: str) -> list[int]:
    """The numbers of an address, comma between; what is none is passed over."""
    return [int(part) for part in text.split(",")[:MOST_IDS] if part.isdecimal() and len(part) <= DIGITS]


class Sent(BaseModel):
    """What a form sends; fields it does not know are passed over."""

    model_config = ConfigDict(frozen=True)

    def given(self, *names: str) -> dict[str, Any]:
        """What was sent of these fields."""
        return {name: getattr(self, name) for name in names if name in self.model_fields_set}


def sent(model: Any) -> Any:
    """A dependency that reads the fields of a form by `model`, a `Sent` or a union of them: `Annotated[Mark,
    sent(Mark)]`. What cannot be read is refused: in the words of the field's reader if it has some, else by the
    names of the fields."""
    adapter: TypeAdapter[Any] = TypeAdapter(model)

    async def read(request: Request) -> Any:
        fields = {name: value for name, value in (await request.form()).items() if isinstance(value, str)}
        try:
            return adapter.validate_python(fields)
        except ValidationError as error:
            errors = error.errors()
            for field_error in errors:
                if isinstance(told_error := field_error.get("ctx", {}).get("error"), Told):
                    raise told_error from None
            raise RequestValidationError([{**error, "loc": ("form", *error["loc"])} for error in errors]) from None

    return Depends(read)


def _number(typed: Any) -> Any:
    """A number with a comma or a point; None where nothing was typed."""
    if not isinstance(typed, str):
        return typed
    try:
        return float(typed.replace(",", ".")) if typed.strip() else None
    except ValueError:
        raise Invalid(f"“{typed[:20]}” is not a number.") from None


def _whole(typed: Any) -> Any:
    """A whole number; None where nothing was typed."""
    if not isinstance(typed, str):
        return typed
    try:
        return int(typed) if typed.strip() else None
    except ValueError:
        raise Invalid(f"“{typed[:20]}” is not a whole number.") from None


def _ticked(typed: Any) -> Any:
    return typed == "1" if isinstance(typed, str) else typed


Number = Annotated[float | None, BeforeValidator(_number)]
Whole = Annotated[int | None, BeforeValidator(_whole)]
Ticked = Annotated[bool, BeforeValidator(_ticked)]
