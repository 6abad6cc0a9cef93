"""Sums of money: an exact amount in one currency. Two currencies are never compared as numbers."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from zesty_trace.errors import InputError

BUDGET_CURRENCY = "EUR"


@dataclass(frozen=True)
class Money:
    """An amount in a currency of three letters (ISO 4217)."""

    amount: Decimal
    currency: str

    def __post_init__(self) -> None:
        if not isinstance(self.amount, Decimal):
            raise TypeError("an amount of money is a Decimal")

    def __str__(self) -> str:
        return f"{self.amount:.2f} {self.currency}"

    def __add__(self, other: Money) -> Money:
        return Money(self.amount + self._alike(other).amount, self.currency)

    def __sub__(self, other: Money) -> Money:
        return Money(self.amount - self._alike(other).amount, self.currency)

    def __mul__(self, factor: int | Decimal) -> Money:
        return Money(self.amount * factor, self.currency)

    def __lt__(self, other: Money) -> bool:
        return self.amount < self._alike(other).amount

    def __le__(self, other: Money) -> bool:
        return self.amount <= self._alike(other).amount

    def __gt__(self, other: Money) -> bool:
        return self.amount > self._alike(other).amount

    def __ge__(self, other: Money) -> bool:
        return self.amount >= self._alike(other).amount

    def _alike(self, other: Money) -> Money:
        if other.currency != self.currency:
            raise InputError(
                f"{self} and {other} cannot be compared", "price", "No rate between the two currencies is known"
            )
        return other


def money(amount: float | int | str | Decimal, currency: str = BUDGET_CURRENCY) -> Money:
    """Return a sum; a float is taken as it is written, so that 0.1 is a tenth."""
    return Money(Decimal(str(amount)), currency)
