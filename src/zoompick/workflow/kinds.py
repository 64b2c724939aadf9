"""The kinds of products that a study knows, in the order in which they can be made."""

from __future__ import annotations

from zoompick.workflow.kind import Kind
from zoompick.workflow.products import blend, clip, compare, composite, index, mosaic, stack

KINDS: tuple[Kind, ...] = (
    stack.KIND, clip.KIND, composite.KIND, index.KIND, mosaic.KIND, blend.KIND, compare.KIND,
)  # fmt: skip
