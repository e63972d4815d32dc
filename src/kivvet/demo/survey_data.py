"""Made-up water samples for the river survey: any number of rows, always the same for the same seed."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

DEMO_ROWS = 3_600
_SEED = 20_260_401

_STATIONS = ("0007", "0012", "0019", "0023", "0031", "0042", "0044", "0058", "0061", "0073")
_UPSTREAM = {
    "0007": "",
    "0012": "0007",
    "0019": "0012",
    "0023": "",
    "0031": "0023",
    "0042": "",
    "0044": "0042",
    "0058": "0044",
    "0061": "",
    "0073": "0061",
    "0099": "0044",
}
_METHODS = ("KN", "SS", "NA", "GB", "CB", "PR")
_HABITATS = ("A", "B", "C")
_FIRST_DAY = dt.date(2023, 10, 1)
_N_DAYS = 3 * 365


def survey_samples(n_rows: int = DEMO_ROWS, seed: int = _SEED) -> pa.Table:
    """Return `n_rows` samples with the dirt that real ones have, every column as text.

    Planted: nitrate with decimals between bounds meant for whole numbers, a station that no list has, a
    trailing blank, a method code that is new, the code ``NA``, missing readings, habitat codes between two
    ranges. Only the uniform stream of a seeded generator is used, so that all versions make the same.
    """
    stream = np.random.Generator(np.random.PCG64(seed))

    def uniform() -> npt.NDArray[np.float64]:
        return stream.random(n_rows)

    def choice(values: tuple[str, ...], weights: tuple[float, ...] | None = None) -> npt.NDArray[Any]:
        shares = np.cumsum(weights or (1.0,) * len(values))
        chosen: npt.NDArray[Any] = np.array(values)[
            np.searchsorted(shares / shares[-1], uniform(), side="right").clip(0, len(values) - 1)
        ]
        return chosen

    season = uniform()
    days = np.sort((uniform() * _N_DAYS).astype(int))
    station = choice((*_STATIONS, "0099"), (9, 8, 10, 7, 8, 12, 10, 9, 8, 7, 0.6))
    ph = np.round(5.4 + 3.6 * (uniform() + uniform()) / 2 + 0.3 * season, 1)
    nitrate = np.round(60 * uniform() ** 2, 1)
    oxygen = np.round(12.5 * (1 - uniform() ** 2.2), 1)
    flow = np.round(0.4 + 60 * uniform() ** 3, 2)
    temperature = np.round(4 + 16 * season + 2 * uniform(), 1)
    method = choice((*_METHODS, "PR ", "XR"), (20, 9, 6, 25, 8, 30, 0.5, 1.2))
    letter = choice(_HABITATS, (3, 4, 3))
    number = (100 * uniform()).astype(int)
    flow[uniform() < 0.01] = 5.0
    flow_is_there, ph_is_there, oxygen_is_there = uniform() > 0.01, uniform() > 0.02, uniform() > 0.015
    remark = choice(("", "foam", "odour, strong", "iced over"), (90, 5, 3, 2))

    def text(
        values: npt.NDArray[Any], digits: int, is_there: npt.NDArray[np.bool_] | None = None, gone: str = ""
    ) -> list[str]:
        written = [f"{value:.{digits}f}" for value in values]
        return (
            written
            if is_there is None
            else [one if there else gone for one, there in zip(written, is_there, strict=True)]
        )

    return pa.table(
        {
            "sample_id": [f"S{number:05d}" for number in range(1, n_rows + 1)],
            "station": station.tolist(),
            "sampled_on": [(_FIRST_DAY + dt.timedelta(days=int(day))).isoformat() for day in days],
            "ph": text(ph, 1, ph_is_there),
            "oxygen": text(oxygen, 1, oxygen_is_there, "-9"),
            "nitrate": text(nitrate, 1),
            "flow": text(flow, 2, flow_is_there),
            "temperature": text(temperature, 1),
            "method": method.tolist(),
            "habitat": [f"{one}{int(n):02d}" for one, n in zip(letter, number, strict=True)],
            "remark": remark.tolist(),
            "upstream": [_UPSTREAM[value] for value in station.tolist()],
        }
    )


def write_samples(path: Path, n_rows: int = DEMO_ROWS, seed: int = _SEED) -> None:
    """Write samples as a CSV file."""
    from kivvet.io.csv_target import CsvTarget

    samples = survey_samples(n_rows, seed)
    path.parent.mkdir(parents=True, exist_ok=True)
    target = CsvTarget(path, path, samples.column_names)
    for batch in samples.to_batches():
        target.write(batch.columns)
    target.close()


#: The questions of the field sheet, and how often the answer is yes.
QUESTIONS = {"saw_foam": 0.05, "saw_film": 0.03, "saw_odour": 0.04, "saw_ice": 0.02, "saw_algae": 0.2}


def write_sheets(path: Path, n_rows: int = DEMO_ROWS, seed: int = _SEED) -> None:
    """Write the field sheets as a CSV file: y and n, sometimes written otherwise, sometimes nothing, once a 0."""
    stream = np.random.Generator(np.random.PCG64(seed + 2))
    answers = []
    for share in QUESTIONS.values():
        is_yes, way = stream.random(n_rows) < share, stream.random(n_rows)
        written = np.where(is_yes, np.where(way < 0.9, "y", "Yes"), np.where(way < 0.9, "n", "N"))
        answers.append(np.where(way > 0.97, "", written).tolist())
    answers[3][7] = "0"
    lines = [",".join(["sample_id", *QUESTIONS])]
    lines += [
        f"S{number:05d},{','.join(given)}" for number, given in enumerate(zip(*answers, strict=True), 1)
    ]
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


#: The months of the loggers' readings, each a file as a spreadsheet program of another country writes it.
LOGGER_MONTHS = (4, 5)
_READINGS_A_MONTH = 120
_PLACES = ("Mühlweg", "Brücke", "Wehr")


def _german(number: str | Decimal) -> str:
    """Return a number of two decimals as 1.234,56."""
    return f"{Decimal(number):,.2f}".translate(str.maketrans(",.", ".,"))


def write_loggers(folder: Path, seed: int = _SEED) -> list[Path]:
    """Write the readings of the loggers, a file a month, as the keeper sends it: semicolons, decimal commas, days like
    03.04.2026; a title, units below the headings, a row with the sum, and a footnote.
    """
    rng = np.random.default_rng(seed + 1)
    stations = list(_UPSTREAM)
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    for month in LOGGER_MONTHS:
        lines = [
            f"Datenlogger der Talsperre, {month:02d}/2026",
            "station;place;sampled_on;flow;saturation;checked",
            ";;;m³/s;;",
        ]
        total = Decimal(0)
        for _ in range(_READINGS_A_MONTH):
            flow = f"{10 ** rng.uniform(-0.5, 3.2):.2f}"
            total += Decimal(flow)
            share = f"{rng.uniform(55, 110):.1f}".replace(".", ",")
            lines.append(
                f"{stations[rng.integers(len(stations))]};{_PLACES[rng.integers(len(_PLACES))]};{rng.integers(1, 31):02d}.{month:02d}.2026;"
                f"{_german(flow)};{share} %;{'ja' if rng.random() < 0.9 else 'nein'}"
            )
        lines += [f"Summe;;;{_german(total)};;", "* vorläufig, noch nicht geprüft"]
        path = folder / f"2026-{month:02d}.csv"
        path.write_bytes(("\r\n".join(lines) + "\r\n").encode("cp1252"))
        written.append(path)
    return written
