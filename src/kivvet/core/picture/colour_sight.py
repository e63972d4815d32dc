"""How colours look to others: to eyes that lack a kind of cone, and in grey.

The simulation is that of Machado, Oliveira and Fernandes (2009), at full severity; differences are measured in CIELAB
(CIE 1976), where about 2 is just noticeable side by side, and 10 is plain across a page.
"""

from __future__ import annotations

from functools import lru_cache
from itertools import pairwise
from typing import Literal

import numpy as np
import numpy.typing as npt

#: Who looks: everybody else, those without red, green or blue cones, and a printer without colours.
Sight = Literal["all", "protanopia", "deuteranopia", "tritanopia", "grey"]
SIGHTS: tuple[Sight, ...] = ("all", "protanopia", "deuteranopia", "tritanopia", "grey")
_Array = npt.NDArray[np.float64]

_LUMINANCE = np.array([0.2126, 0.7152, 0.0722])
_MACHADO = {
    "protanopia": [
        [0.152286, 1.052583, -0.204868],
        [0.114503, 0.786281, 0.099216],
        [-0.003882, -0.048116, 1.051998],
    ],
    "deuteranopia": [
        [0.367322, 0.860646, -0.227968],
        [0.280085, 0.672501, 0.047413],
        [-0.011820, 0.042940, 0.968881],
    ],
    "tritanopia": [
        [1.255528, -0.076749, -0.178779],
        [-0.078411, 0.930809, 0.147602],
        [0.004733, 0.691367, 0.303900],
    ],
}
_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)
_WHITE = np.array([0.95047, 1.0, 1.08883])


def linear_of(colour: str) -> _Array:
    """Return ``#rrggbb`` as light: red, green and blue from 0 to 1, linear."""
    signs = np.array([int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)])
    return np.where(signs <= 0.04045, signs / 12.92, ((signs + 0.055) / 1.055) ** 2.4)


def colour_of(light: _Array) -> str:
    """Return light as ``#rrggbb``; what a screen cannot show is cut off."""
    light = np.clip(light, 0, 1)
    signs = np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)
    return "#" + "".join(f"{round(sign * 255):02x}" for sign in signs.tolist())


def seen(light: _Array, sight: Sight) -> _Array:
    """Return light as it looks to a kind of eyes; the last axis is red, green and blue."""
    if sight == "all":
        return light
    if sight == "grey":
        return np.repeat((light @ _LUMINANCE)[..., None], 3, axis=-1)
    made: _Array = np.clip(light @ np.array(_MACHADO[sight]).T, 0, 1)
    return made


def lab_of(light: _Array) -> _Array:
    """Return light in CIELAB: lightness from 0 to 100, and two axes of hue."""
    x, y, z = (
        np.cbrt(part) if part > 216 / 24389 else (24389 / 27 * part + 16) / 116
        for part in (_XYZ @ light / _WHITE).tolist()
    )
    return np.array([116 * y - 16, 500 * (x - y), 200 * (y - z)])


def difference(one: str, other: str, sight: Sight = "all") -> float:
    """Return how far two colours are apart to a kind of eyes, in CIELAB."""
    first, second = (lab_of(seen(linear_of(colour), sight)) for colour in (one, other))
    return float(np.linalg.norm(first - second))


@lru_cache(maxsize=4096)
def are_told_apart(one: str, other: str) -> bool:
    """Whether everybody tells two colours apart, in print without colours too."""
    return all(difference(one, other, sight) >= (9 if sight == "grey" else 12) for sight in SIGHTS)


def ramp(stops: tuple[str, ...], number: int) -> list[str]:
    """Return colours at even steps along a line through others."""
    lights = [np.cbrt(linear_of(stop)) for stop in stops]  # even to the eye, nearly
    places = [0.5] if number == 1 else [step / (number - 1) for step in range(number)]
    made = []
    for place in places:
        at = place * (len(stops) - 1)
        first = min(int(at), len(stops) - 2)
        low, high = list(pairwise(lights))[first]
        made.append(colour_of((low + (high - low) * (at - first)) ** 3))
    return made
