"""Sums of money: an exact amount in one currency. Two currencies are never compared as numbers."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, field
from decimal import ROUND_HALF_EVEN, Decimal

from zesty_trace.errors import InputError
from zesty_trace.names import shorten

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


EXPONENTS = {"JPY": 0, "KRW": 0, "HUF": 0, "ISK": 0, "CLP": 0}  # decimals in prices, ISO 4217 or custom; else 2
MOST_RATES = 200


@dataclass(frozen=True)
class Rates:
    """What one unit of other currencies costs in the budget's, by somebody's table; `of` says of when."""

    per: dict[str, Decimal] = field(default_factory=dict)
    of: str = ""

    def in_budget(self, sum_: Money) -> Money | None:
        """Return a sum in the budget's currency, rounded to its smallest coin; None where no rate is known."""
        if sum_.currency == BUDGET_CURRENCY:
            return rounded(sum_)
        rate = self.per.get(sum_.currency)
        return rounded(Money(sum_.amount * rate, BUDGET_CURRENCY)) if rate is not None else None


def rounded(sum_: Money) -> Money:
    """Return a sum rounded to the smallest coin of its currency, halves to the even one."""
    coin = Decimal(1).scaleb(-EXPONENTS.get(sum_.currency, 2))
    return Money(sum_.amount.quantize(coin, rounding=ROUND_HALF_EVEN), sum_.currency)


def read_rates(text: str, where: str) -> Rates:
    """Return the rates of a TOML table: `of = "2026-11-20"`, then `[rates]` with USD = 0.92. InputError."""
    try:
        raw = tomllib.loads(text, parse_float=Decimal)
        table = raw.pop("rates", {})
        of = str(raw.pop("of", ""))
        if raw:
            raise InputError(f"“{shorten(next(iter(raw)))}” is not understood", where, "Write of, then [rates]")
        if not isinstance(table, dict) or len(table) > MOST_RATES:
            raise InputError("There is no table of rates", where, "Write [rates], then USD = 0.92 and so on")
        per = {str(k): Decimal(str(v)) for k, v in table.items()}
    except (ArithmeticError, RecursionError, ValueError) as error:
        raise InputError(f"The rates cannot be read: {error}", where, "Write USD = 0.92 and so on") from error
    for currency, rate in per.items():
        known = len(currency) == 3 and currency.isascii() and currency.isupper() and currency != BUDGET_CURRENCY
        if not known or not rate.is_finite() or not 0 < rate < 1_000_000:
            words = f"{shorten(currency)} = {shorten(str(rate))} is no rate"
            raise InputError(words, where, f"Write what one unit costs in {BUDGET_CURRENCY}, such as USD = 0.92")
    return Rates(per, of)


def money(amount: float | int | str | Decimal, currency: str = BUDGET_CURRENCY) -> Money:
    """Return a sum; a float is taken as it is written, so that 0.1 is a tenth."""
    return Money(Decimal(str(amount)), currency)
