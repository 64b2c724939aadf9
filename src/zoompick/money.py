"""Money: amounts of a currency, which are never added, compared or limited across currencies."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from zoompick.errors import SourceError, UsageError

_ROUNDING = 0.005
_MOST = 1e12
"""No study costs so much: what is above is no price but a slip, or a trick with digits that floats do not hold."""


@dataclass(frozen=True, slots=True)
class Money:
    """An amount, finite and not negative, and its currency; an empty one where the source tells none.

    Raises
    ------
    ValueError
        The amount is no such number.
    """

    amount: float
    currency: str = ""

    def __post_init__(self) -> None:
        if isinstance(self.amount, bool) or not isinstance(self.amount, int | float):
            raise ValueError(f"{self.amount!r} is no number")
        if not 0 <= self.amount <= _MOST:
            raise ValueError(f"{self.amount!r} is no amount")

    @classmethod
    def told(cls, amount: object, currency: str, of: str) -> Money:
        """A price as a source tells it.

        Parameters
        ----------
        of : str
            What has it, for the error.

        Raises
        ------
        SourceError
            Negative, not a number, or beyond all reason.
        """
        try:
            return cls(amount, currency)  # type: ignore[arg-type]
        except ValueError as error:
            shown = str(amount)[:40]
            raise SourceError(
                f"{of} has the price {f'{shown} {currency}'.strip()}, which is none: nothing is planned or bought.",
                "Leave the scene out ('zoompick pick drop'), and tell the people who run the source.",
            ) from error

    @classmethod
    def parse(cls, text: str) -> Money:
        """An amount as a person writes it: ``48.34 crowns``, or a bare number.

        Raises
        ------
        UsageError
        """
        match = re.fullmatch(r"\s*(\d{1,15}(?:\.\d*)?|\.\d+)\s*([^\d\s.,][^\d]{0,30}?)?\s*", text)
        try:
            if match is None:
                raise ValueError(text)
            return cls(float(match[1]), (match[2] or "").strip())
        except ValueError as error:
            raise UsageError(f"'{text}' is no amount of money.", "Write 48.34, or '48.34 crowns'.") from error

    def of_km2(self, km2: float) -> Money:
        """What so many square kilometres cost at this price for one."""
        return Money(self.amount * km2, self.currency)

    def __add__(self, other: Money) -> Money:
        if other.currency != self.currency:
            raise ValueError(f"{self.currency} and {other.currency} cannot be added")
        return Money(round(self.amount + other.amount, 6), self.currency)

    def is_within(self, limit: Money) -> bool:
        """Whether it is no more than a limit of the same currency, but for rounding."""
        if limit.currency != self.currency:
            raise ValueError(f"{self.currency} cannot be held against {limit.currency}")
        return self.amount <= limit.amount + _ROUNDING

    def __str__(self) -> str:
        return f"{self.amount:.2f} {self.currency}".strip()


def totals(amounts: Iterable[Money]) -> tuple[Money, ...]:
    """Sums by currency, of what costs anything, in the order in which the currencies come."""
    found: dict[str, Money] = {}
    for one in amounts:
        if one.amount:
            found[one.currency] = found[one.currency] + one if one.currency in found else one
    return tuple(found.values())


def words(sums: Sequence[Money]) -> str:
    """Sums for people: ``48.34 crowns and 12.00 marks``; empty for nothing."""
    return " and ".join(map(str, sums))


def allowed(given: Sequence[str | float | Money], sums: Sequence[Money]) -> tuple[Money, ...]:
    """What a person lets some sums cost, by currency; a bare number stands for the currency of all.

    Raises
    ------
    UsageError
        No amount, a bare number beside several currencies, or a currency told twice.
    """
    found: dict[str, Money] = {}
    currencies = [one.currency for one in sums]
    for entry in given:
        one = entry if isinstance(entry, Money) else Money.parse(str(entry))
        if not one.currency and currencies:
            if len(currencies) > 1:
                raise UsageError(
                    f"{one.amount:g} of what? The orders cost {words(sums)}.",
                    f"Give one amount for each currency, as `accept-price` '{sums[0]}'.",
                )
            one = Money(one.amount, currencies[0])
        if one.currency in found:
            raise UsageError(f"Two limits are given in {one.currency or 'one currency'}.", "Give one for each.")
        found[one.currency] = one
    return tuple(found.values())


def too_dear(sums: Sequence[Money], limits: Sequence[Money]) -> Money | None:
    """The first sum that no limit of its currency allows; None when all are allowed."""
    by = {limit.currency: limit for limit in limits}
    return next((one for one in sums if one.currency not in by or not one.is_within(by[one.currency])), None)
