"""Run by the system's own Python: what the policy tools' library says of a domain.

Usage: policy_oracle.py POLICY DOMAIN SEED SETTINGS. Prints the switches of each setting, then one
line for each setting, type and class with the permissions that are held.
"""

import json
import random
import sys

import setools  # type: ignore[import-not-found]

CLASSES = ("dir", "file", "lnk_file", "sock_file", "fifo_file")


def main(path: str, domain: str, seed: int, settings: int) -> None:
    policy = setools.SELinuxPolicy(path)
    shipped = {str(switch): switch.state for switch in policy.bools()}
    rules: dict = {}
    for rule in setools.TERuleQuery(policy, ruletype=["allow"], source=domain).results():
        try:
            condition, when = rule.conditional, rule.conditional_block
        except AttributeError:
            condition, when = None, True
        for target in rule.target.expand():
            known = rules.setdefault((str(target), str(rule.tclass)), [])
            known.append((frozenset(map(str, rule.perms)), condition, when))
    used = sorted({str(s) for held in rules.values() for _, c, _ in held if c for s in c.booleans})
    rng = random.Random(seed)
    for number in range(settings):
        turned = {name: rng.random() < 0.5 for name in used} if number else {}
        state = {**shipped, **turned}
        print(json.dumps(turned))
        for type_ in sorted(map(str, policy.types())):
            for kind in CLASSES:
                perms = set()
                for each, condition, when in rules.get((type_, kind), ()):
                    named = (
                        {}
                        if condition is None
                        else {str(switch): state[str(switch)] for switch in condition.booleans}
                    )
                    if condition is None or bool(condition.evaluate(**named)) == when:
                        perms |= each
                print(json.dumps([type_, kind, sorted(perms)]))


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]), int(sys.argv[4]))
