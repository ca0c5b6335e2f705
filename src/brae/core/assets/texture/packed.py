"""One channel of a packed map exchanged: a new version of the edit."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict

from brae.core.assets.base import ExchangeFile, Viewed
from brae.core.assets.texture import channels, formats
from brae.core.assets.texture.channels import Part
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.looking import painted
from brae.core.assets.texture.texture import TextureFile
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.roles import Channel


class ChannelChange(BaseModel):
    """Which channel, and whether what comes into it is inverted."""

    model_config = ConfigDict(extra="forbid")

    channel: Channel
    invert: bool = False


def change_channel(
    viewed: Viewed[TextureFile], query: ChannelChange, file: ExchangeFile | None
) -> tuple[ExchangeFile, str]:
    """Another picture's red (or grey) in one channel; without a picture the channel's own, inverted.

    Raises FormatError where the dimensions differ.
    """
    base, channel = painted(viewed), query.channel
    part, words = Part(base, channel, query.invert), f"{channel.upper()} inverted"
    if file is not None:
        words = f"{channel.upper()} from {file.name}"
        try:
            part = Part(read_image(file.data, file.name).picture, "r", query.invert)
        except BraeError as error:
            raise error.at(file.name) from None
    elif not query.invert:
        raise FormatError("There is nothing to put into the channel.")
    made = channels.compose({channel: part}, base)
    kind = "exr" if formats.precision_of(made) == "float" else "png"
    return ExchangeFile(f"{file.name if file else channel}.{kind}", write_image(made, kind)), words
