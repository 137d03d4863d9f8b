"""New sites: what is usual on a server, and what a new site takes by it."""

from ecumen.founding.habits import Habit, Habits, habits_of
from ecumen.founding.proposal import Clash, Proposal, Wish, propose

__all__ = ["Clash", "Habit", "Habits", "Proposal", "Wish", "habits_of", "propose"]
