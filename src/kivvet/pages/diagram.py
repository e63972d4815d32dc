"""A diagram of how columns depend on each other: the source's on the left, then what is made of them, layer by layer."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape

from kivvet.books.asks.book_facts import StepTold

_LETTER, _HIGH, _BETWEEN, _ACROSS, _EDGE = 6.4, 24, 8, 46, 8
_LONGEST = 26
_SWEEPS = 8


@dataclass
class _Node:
    """A box: what it is called, what it makes, where it leads to, and where it stands."""

    key: str
    text: str
    kind: str
    link: str
    title: str
    layer: int = 0
    y: float = 0.0


def diagram(steps: Sequence[StepTold], links: Mapping[str, str], about: str) -> str:
    """Return the steps of a dataset as an SVG, all text escaped; empty where there are none.

    Parameters
    ----------
    steps : sequence of StepTold
        In the order of computation.
    links : mapping of str to str
        By table or formula, the anchor of its part of the page.
    about : str
        What the diagram is of.
    """
    if not steps:
        return ""
    nodes: dict[str, _Node] = {}
    maker: dict[str, str] = {}
    edges: list[tuple[str, str]] = []
    for place, step in enumerate(steps):
        key = f"step {place}"
        sources = []
        for column in step.reads:
            origin = maker.get(column)
            if origin is None:
                origin = f"column {column}"
                nodes.setdefault(
                    origin, _Node(origin, column, "source", "", f"column {column} of the source")
                )
            sources.append(origin)
        made = [name for name in step.makes if name != step.name]
        text = step.name if not made else f"{step.name}: {', '.join(made)}"
        kind = "table" if step.is_table else "formula"
        node = _Node(
            key, text, kind, links.get(step.name, ""), f"{kind} {step.name} makes {', '.join(step.makes)}"
        )
        node.layer = 1 + max((nodes[source].layer for source in sources), default=0)
        nodes[key] = node
        edges += [(one, key) for one in dict.fromkeys(sources)]
        maker |= dict.fromkeys(step.makes, key)
    layers = _layers(nodes, edges)
    return _drawn(layers, nodes, edges, about)


def _layers(nodes: Mapping[str, _Node], edges: Sequence[tuple[str, str]]) -> list[list[_Node]]:
    """Return the boxes of each layer, ordered so that few lines cross: each near the middle of those it is joined with."""
    layers: list[list[_Node]] = [[] for _ in range(1 + max(node.layer for node in nodes.values()))]
    for node in nodes.values():
        layers[node.layer].append(node)
    near: dict[str, list[str]] = {key: [] for key in nodes}
    for one, two in edges:
        near[one].append(two)
        near[two].append(one)
    for layer in layers:
        _stack(layer)
    for sweep in range(_SWEEPS):
        for layer in layers if sweep % 2 == 0 else reversed(layers):
            middle = {
                node.key: sum(nodes[key].y for key in near[node.key]) / len(near[node.key])
                if near[node.key]
                else node.y
                for node in layer
            }
            layer.sort(key=lambda node: middle[node.key])
            _stack(layer)
    tallest = max(len(layer) for layer in layers) * (_HIGH + _BETWEEN)
    for layer in layers:
        shift = (tallest - len(layer) * (_HIGH + _BETWEEN)) / 2
        for node in layer:
            node.y += shift
    return layers


def _stack(layer: Sequence[_Node]) -> None:
    for place, node in enumerate(layer):
        node.y = place * (_HIGH + _BETWEEN)


def _drawn(
    layers: Sequence[Sequence[_Node]],
    nodes: Mapping[str, _Node],
    edges: Sequence[tuple[str, str]],
    about: str,
) -> str:
    widths = [max(len(_cut(node.text)) for node in layer) * _LETTER + 18 for layer in layers]
    lefts = [_EDGE + sum(widths[:place]) + place * _ACROSS for place in range(len(layers))]
    wide = lefts[-1] + widths[-1] + _EDGE
    high = max(node.y for node in nodes.values()) + _HIGH + 2 * _EDGE
    parts = [
        f'<svg class="depends" role="img" aria-label="{escape(about)}" viewBox="0 0 {wide:.0f} {high:.0f}"',
        f' width="{wide:.0f}" height="{high:.0f}" xmlns="http://www.w3.org/2000/svg">',
    ]
    for one, two in edges:
        start, end = nodes[one], nodes[two]
        x0, x1 = lefts[start.layer] + widths[start.layer], lefts[end.layer]
        y0, y1 = start.y + _HIGH / 2 + _EDGE, end.y + _HIGH / 2 + _EDGE
        bend = min(_ACROSS, (x1 - x0) / 2)
        parts.append(
            f'<path class="{start.kind}" d="M{x0:.1f} {y0:.1f}C{x0 + bend:.1f} {y0:.1f} {x1 - bend:.1f} {y1:.1f} {x1:.1f} {y1:.1f}"/>'
        )
    for node in nodes.values():
        x, y = lefts[node.layer], node.y + _EDGE
        box = (
            f"<g class='node {node.kind}'><title>{escape(node.title)}</title>"
            f'<rect x="{x:.1f}" y="{y:.1f}" width="{widths[node.layer]:.1f}" height="{_HIGH}" rx="4"/>'
            f'<text x="{x + 9:.1f}" y="{y + _HIGH / 2 + 4:.1f}">{escape(_cut(node.text))}</text></g>'
        )
        parts.append(f'<a href="#{escape(node.link)}">{box}</a>' if node.link else box)
    return "".join([*parts, "</svg>"])


def _cut(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"
