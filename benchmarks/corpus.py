"""How many planted mistakes the review finds, how many it misses, and how often it cries out on a faultless board."""

from __future__ import annotations

from tests.corpus.cases import alarms, broken, faultless, prototypes

from zesty_trace.core.review.rules import review


def main() -> None:
    """Print a line for each prototype, and the mistakes that are missed."""
    total, hits, false, lines = 0, 0, 0, []
    for prototype in prototypes():
        wired = faultless(prototype)
        before = {f.identity for f in review(wired)}
        found = 0
        for mistake in prototype.mistakes:
            rules = {f.rule for f in review(broken(prototype, mistake)) if f.identity not in before}
            if mistake.finds in rules:
                found += 1
            else:
                instead = f"; {', '.join(sorted(rules))} instead" if rules else ""
                lines.append(f"  missed: {mistake} ({mistake.finds}){instead}")
        wrong = alarms(prototype)
        total, hits, false = total + len(prototype.mistakes), hits + found, false + len(wrong)
        size, planted = len(wired.design.parts), len(prototype.mistakes)
        print(f"{prototype.name:14} {size:3} parts  {found:3} of {planted:3} found  {len(wrong)} false")
    print(f"{'all':14}           {hits:3} of {total:3} found ({hits / total:.0%}), {false} false alarms")
    print("\n".join(lines))


if __name__ == "__main__":
    main()
