"""The kinds of products that a study knows, in the order in which they can be made."""

from __future__ import annotations

from zoompick.products.kind import Kind
from zoompick.products.kinds import align, blend, clip, compare, composite, index, mask, mosaic, picture, stack
from zoompick.scenes.traits import UNTOLD, Traits

KINDS: tuple[Kind, ...] = (
    stack.KIND, align.KIND, clip.KIND, mask.KIND, composite.KIND, index.KIND, mosaic.KIND, blend.KIND, compare.KIND,
    picture.KIND,
)  # fmt: skip


def traits_of(step: str) -> Traits:
    """What is so of products of a step by its name, as records tell it; empty for files of others."""
    if not step:
        return UNTOLD

    made = (one for kind in KINDS for one in kind.steps)
    return next((one.traits for one in made if one.name == step), Traits())
