"""The study folder: where everything of a study lies."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from zoompick import files
from zoompick.errors import DataError, StudyError
from zoompick.settings import BRIEF_NAME, SCHEMA_NAME, at, study_folder

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.study.brief import Brief


LOCAL = ".local"
JUDGED = "judged.json"
"""Local: the state of all files when they were judged."""
IGNORED = f"{LOCAL}/\n.lock\n"
"""What a study that is shared leaves out."""
ITEM = "item.json"
"""Name of the STAC Item in a scene's folder."""


def _is_item_of(path: Path, key: tuple[str, str, str]) -> bool:
    try:
        item = files.read_json(path)
    except DataError:
        return False
    return isinstance(item, dict) and (item.get("collection") or "", item.get("id")) == key[1:]


def refuse_taken(root: Path, wanted: Mapping[str, bytes]) -> None:
    """Before a study is made: a file of the user's own where one of the study's has to lie is not written over.

    Raises
    ------
    StudyError
    """
    for name, content in wanted.items():
        path = root / name
        if path.exists() and (path.is_dir() or path.read_bytes() != content):
            raise StudyError(f"{path} is there already, and is another.", "Move it, or give another folder.")


Verb = TypeVar("Verb", bound=Callable[..., Any])


def at_home(verb: Verb) -> Verb:
    """A verb of a study, its first argument: facts of the user's own are that study's while it works."""

    @functools.wraps(verb)
    def call(study: Study, *args: Any, **named: Any) -> Any:
        with at(study.root):
            return verb(study, *args, **named)

    return call  # type: ignore[return-value]


@dataclass(frozen=True)
class Study:
    """A study by its folder."""

    root: Path

    @classmethod
    def find(cls, start: str | Path) -> Study | None:
        """The study that holds ``start``: the nearest folder upward with a brief."""
        found = study_folder(Path(start))
        return None if found is None else cls(found)

    @classmethod
    def need(cls, start: str | Path) -> Study:
        """Like :meth:`find`, but raises :class:`StudyError` when there is none."""
        study = cls.find(start)
        if study is None:
            raise StudyError(
                f"There is no study in {Path(start).resolve()} or above it.",
                "Make one with 'zoompick new FOLDER', or go into one.",
            )
        return study

    @classmethod
    def create(cls, root: Path, brief_text: str) -> Study:
        """Make a study folder; StudyError when there is one already or the place is taken."""
        from zoompick.study.schema import published

        if (root / BRIEF_NAME).exists():
            raise StudyError(f"{root} is a study already.", "Choose another folder, or work in that study.")
        if root.exists() and not root.is_dir():
            raise StudyError(f"{root} is a file.", "Choose another name for the study's folder.")
        files.write_text(root / BRIEF_NAME, brief_text)
        if not (root / ".gitignore").exists():
            files.write_text(root / ".gitignore", IGNORED)
        beside = root / SCHEMA_NAME
        if not beside.exists():
            files.write_text(beside, published())
        return cls(root.resolve())

    @property
    def brief_file(self) -> Path:
        """``study.toml``."""
        return self.root / BRIEF_NAME

    @property
    def area_file(self) -> Path:
        """The study area as GeoJSON."""
        return self.root / "area.geojson"

    @property
    def shortlist_file(self) -> Path:
        """The picked scenes."""
        return self.root / "shortlist.json"

    @property
    def found_file(self) -> Path:
        """What the last search found, so that scenes can be picked by number."""
        return self.root / "found.json"

    @property
    def journal_file(self) -> Path:
        """One line per act."""
        return self.root / "journal.jsonl"

    @property
    def orders_file(self) -> Path:
        """Orders, planned and under way."""
        return self.root / "orders.json"

    @property
    def terms_file(self) -> Path:
        """Terms that were accepted, by collection."""
        return self.root / "terms.json"

    def local(self, name: str) -> Path:
        """A file or folder of this copy of the study alone: what others have of their own, or make again.

        Where an earlier version of this program put it, it stays.
        """
        former = self.root / f".{name}"
        return former if former.exists() else self.root / LOCAL / name

    @property
    def undo_folder(self) -> Path:
        """Earlier shortlists."""
        return self.local("undo")

    @property
    def vouched_file(self) -> Path:
        """Digests of products, with the size and time stamp that vouch for them."""
        return self.local("vouched.json")

    @property
    def checks_file(self) -> Path:
        """Findings of the last verification."""
        return self.root / "checks.json"

    def scene_folder(self, key: tuple[str, str, str]) -> Path:
        """Folder of one scene's files, by its source, collection and id.

        Where an earlier version of this program put the scene's files it finds them again.
        """
        source, collection, scene = key
        shelf = self.root / "scenes" / files.distinct_name(source or "files")
        former = shelf / files.safe_name(scene)
        if (former / ITEM).is_file() and _is_item_of(former / ITEM, key):
            return former
        return shelf / files.distinct_name(collection or "scenes") / files.distinct_name(scene)

    def products(self, name: str) -> Path:
        """Folder of the products of one scene set; the brief tells its name."""
        return self.root / "products" / name

    def brief(self) -> Brief:
        """The brief, read and checked."""
        from zoompick.study.brief import read_brief

        with at(self.root):
            return read_brief(self.brief_file)

    def area(self) -> Area:
        """The study area; StudyError when none was set."""
        from zoompick.area.read import read_area

        if not self.area_file.exists():
            raise StudyError(
                "This study has no area yet.",
                "Set one: 'zoompick area FILE.geojson', or with `box` W S E N.",
            )
        return read_area(self.area_file)

    @contextmanager
    def locked(self) -> Iterator[None]:
        """Work alone in this study; :class:`BusyError` when another process does."""
        with files.exclusive(self.root):
            files.sweep_parts(self.root)
            yield
