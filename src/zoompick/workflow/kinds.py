"""The kinds of products that a study knows, in the order in which they can be made."""

from __future__ import annotations

from zoompick.workflow.kind import Kind
from zoompick.workflow.products import clip, composite, index, stack

KINDS: tuple[Kind, ...] = (stack.KIND, clip.KIND, composite.KIND, index.KIND)
