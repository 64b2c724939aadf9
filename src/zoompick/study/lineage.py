"""What is made of what: the products of a plan as trees, each below the product that it is made of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick.products.fused import FusedStep
from zoompick.products.step import Step


@dataclass(frozen=True)
class Node:
    """A product, and those that are made of it.

    Attributes
    ----------
    name : str
        Path below the folder of products.
    step : str
        The operation.
    made_of : tuple of str
        Other products it is made of, beside the one it stands below.
    files : int
        Files of scenes it is made of.
    """

    name: str
    step: str
    made_of: tuple[str, ...] = ()
    files: int = 0
    below: tuple[Node, ...] = ()


def trees(steps: Sequence[Step], root: Path) -> list[Node]:
    """Products as trees, in the order in which they are made; a product of several stands below the first of them.

    Parameters
    ----------
    root : Path
        Folder of the products.
    """
    made = {step.output: step for step in steps}
    below: dict[Path | None, list[Step]] = {}
    for step in steps:
        own = [path for path in step.inputs if path in made]
        # Of several days no one is the trunk: such a product is a tree of its own.
        first = own[0] if len({path.parent for path in own}) == 1 else None
        below.setdefault(first, []).append(step)
    return [_node(step, root, made, below, None) for step in below.get(None, ())]


def _node(
    step: Step, root: Path, made: Mapping[Path, Step], below: Mapping[Path | None, Sequence[Step]], trunk: Path | None
) -> Node:
    own = dict.fromkeys(path for path in step.inputs if path in made and path != trunk)
    through = [one.name for one in reversed(step.made_of)] if isinstance(step, FusedStep) else []
    return Node(
        name=step.output.relative_to(root).as_posix(),
        step=" of ".join([step.name, *through]),
        made_of=tuple(path.relative_to(root).as_posix() for path in own),
        files=sum(path not in made for path in step.inputs),
        below=tuple(_node(one, root, made, below, step.output) for one in below.get(step.output, ())),
    )
