"""The kinds of products that a study knows, in the order in which they can be made."""

from __future__ import annotations

from zoompick.products.kind import Kind
from zoompick.products.kinds import align, blend, clip, compare, composite, index, mask, mosaic, picture, stack

KINDS: tuple[Kind, ...] = (
    stack.KIND, align.KIND, clip.KIND, mask.KIND, composite.KIND, index.KIND, mosaic.KIND, blend.KIND, compare.KIND,
    picture.KIND,
)  # fmt: skip
