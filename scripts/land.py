"""Write the coarse land mask of the simulated archive anew, after a change of its landscape.

python scripts/land.py
"""

from __future__ import annotations

from pathlib import Path

import imagecodecs
import numpy as np
from platformdirs import user_cache_path

from zoompick.standin import world
from zoompick.standin.covers import Cover
from zoompick.standin.land import STEP

TARGET = Path(__file__).parents[1] / "src/zoompick/standin/data/land.png"


def main() -> None:
    """Average the world's land over squares of pixels."""
    cover = world.layers(user_cache_path("zoompick")).cover
    is_land = (np.asarray(cover) != Cover.SEA).astype(np.float32)
    share = is_land.reshape(world.HEIGHT // STEP, STEP, world.WIDTH // STEP, STEP).mean(axis=(1, 3))
    TARGET.write_bytes(imagecodecs.png_encode(np.rint(255 * share).astype(np.uint8), 9))
    print(f"{TARGET.name}: {TARGET.stat().st_size} bytes")


if __name__ == "__main__":
    main()
