"""A second process that works on a part of a long search, so that two cores are used.

It keeps open nodes of its own, as the search does, and works on them in shares: fixed amounts of counted work, never
measured by the clock. With a share goes what has been learnt since, with its answer what has come of it. Nodes go
along where one side has many fewer of them than the other, and a few of the best where the other has better ones. So
the same problem takes the same path every time, and on one core too, where the helper's shares are worked on in turn.
Shares are small at first: what branches are worth is learnt early, and each side would decide for large parts of the
tree without what the other one knows by then.
Two shares are out at a time, one of them waiting: an answer is asked for one hand-over later than it could be there,
so that neither process stands still because the other one is a little late. What was lent stays the frontier's:
should the process die, hang or run out of memory, the nodes are there again. Nothing here ever waits for a pipe.
"""

from __future__ import annotations

import pickle
import sys
import time
from collections.abc import Callable

from ruddock.engine.outcome import Limits, Reason
from ruddock.engine.tree import hands
from ruddock.engine.tree.bundle import Bundle
from ruddock.engine.tree.frontier import Away, Frontier
from ruddock.engine.tree.hands import Hand, Return, Share, Work
from ruddock.engine.tree.pseudocosts import PseudoCosts
from ruddock.engine.tree.state import SearchState
from ruddock.engine.tree.workload import near_work_done, work_done

NODES = 300  # between two hand-overs at most, while the search is short
FEW, OPEN = 20, 0.25  # between them at most where little is open here: so many, or so many for each open node
BETWEEN = 0.1  # seconds between them at most, by the measure of `workload`, while it is short
LONGER = 0.02  # of what the search has done so far, between two hand-overs of a long one
FEWEST, FEWEST_PRICED = 12, 2  # open nodes lent at least, and left; of those bounded by prices, which take long
UNEVEN = 2  # times as many open nodes on one side as on the other, from which on they are made even
MOST_LENT = 10_000  # nodes that go along at a time
BETTER = 15  # of them because they are better than the other side's: more of them cost more to move than they are worth
MOST_AWAY = 100_000  # nodes lent from which on all come back, since what is done of them is not known
AHEAD = 2  # shares that are out at a time
FIRST = 1.5  # times the work of the first share, so that the next one is there before it is done
LEAST = 0.025  # seconds of work in a share
USUAL = 0.6  # of their average is what most searches near plans take at least
LOOKS = 8  # at the work that has been done, about, between two hand-overs
EARLIEST, EARLIEST_PRICED = 10, 4  # nodes before which no helper joins; nodes bounded by prices
CALLED, CALLED_BY = 0.3, 0.4  # seconds by that measure, or by the clock, after which a helper is called
WORTH = 1.7  # by the measure, after which it joins: by then it should be there
PATIENCE, LATE = 30.0, 30.0  # seconds that a lease lasts at least, and that many times what the search took itself


class Team:
    """A search and its helper.

    Parameters
    ----------
    state : SearchState
    work : callable
        Works on a share; for a helper in the same process.
    """

    def __init__(self, state: SearchState, work: Work) -> None:
        self._hand: Hand = hands.Process() if hands.may_start() else hands.InTurn(work)
        self._ready = self._gone = False
        self._due = self._look = self._marked = self._answers = 0
        self._worked = 0.0
        self._shared: PseudoCosts  # what both sides know of the worth of branches, once the helper has joined
        self._begun = time.monotonic()

    def meet(self, state: SearchState, *, now: bool = False, ahead: float = 0.0) -> None:
        """Take back what has been done and give a new share, when that is due.

        Parameters
        ----------
        now : whether it is due in any case, once the helper has joined
        ahead : seconds of work that the search is about to do at once
        """
        effort, frontier = state.effort, state.frontier
        if self._gone or not (now or effort.own_nodes >= self._look):
            return
        if not self._ready:
            if now or not _joins(state):
                return
            self._join(state)
        done = work_done(state) + ahead - self._worked
        between = max(BETWEEN, LONGER * self._worked)
        if not (now or effort.own_nodes >= self._due or done > between):
            # to count the work takes a while, so it waits for a part of the nodes that are left until then
            left = (between - done) / max(done, LEAST) * (effort.own_nodes - self._marked)
            self._look = min(self._due, effort.own_nodes + 1 + int(left / LOOKS))
            return
        ends = _nodes_left(state) < 2
        while frontier.leases and (len(frontier.leases) >= AHEAD or ends or not len(frontier)):
            self.take_back(state)
        while frontier.away.count and not len(frontier) and not self._gone and not effort.stopped():
            self._give(state, 0, (frontier.away.count + 1) // 2, 0, 0.0)  # nothing but half of its nodes
            self.take_back(state)
        if frontier.lent and not len(frontier):  # the search is stopped
            self.dismiss(state)
        left = _nodes_left(state)
        most = max(NODES, LONGER * effort.own_nodes)
        if self._answers:  # until then it may take a while
            most = min(most, max(FEW, OPEN * len(frontier)))
        self._mark(state, int(min(most, left / 2)), ahead)  # the helper has the other half
        if left < 2 or self._gone or effort.stopped():
            return
        lent, back = _moved(frontier, _fewest(state))
        if lent or frontier.lent:
            # about what the search does until the next time, what it spends on plans included
            work = max(LEAST, done if self._answers else BETWEEN)
            most_nodes = int(min(sys.maxsize, left / 2))
            self._give(state, lent, back, most_nodes, work if frontier.leases else FIRST * work)

    def _join(self, state: SearchState) -> None:
        """Give the helper the search as it is."""
        self._hand.prepare(pickle.dumps(state))
        self._shared = state.costs.copy()
        self._ready = True
        self._mark(state, 0)

    def _mark(self, state: SearchState, nodes: int, ahead: float = 0.0) -> None:
        """Note where the search stands at a hand-over; the next is due after so many nodes."""
        self._marked, self._worked = state.effort.own_nodes, work_done(state) + ahead
        self._due, self._look = self._marked + nodes, self._marked + 1

    def _give(self, state: SearchState, lent: int, back: int, most_nodes: int, work: float) -> None:
        now = time.monotonic()
        lease = state.frontier.lease(lent, PATIENCE + LATE * (now - self._begun), most_nodes)
        self._begun = now
        best, seconds = state.incumbent.best, state.effort.seconds_left
        learnt = state.costs.since(self._shared)
        self._shared.become(state.costs)
        share = Share(Bundle.of(lease.nodes), back, most_nodes, work, seconds, best, learnt, _told(state))
        self._hand.give(pickle.dumps(share))

    def take_back(self, state: SearchState) -> None:
        """Take back what became of the first share that is out; a helper that gives no answer is let go for good."""
        lease, effort = state.frontier.leases[0], state.effort
        done = self._hand.take(effort.stopped, lambda: lease.expired, effort.seconds_left)
        if done is None:
            self.dismiss(state)
            return
        self._answers += 1
        state.frontier.give_up(done.given_up, uncertain=done.uncertain)
        state.frontier.answered(done.nodes.unpacked(), done.away)
        effort.add_elsewhere(done.worked_on, done.iterations, done.on_trials)
        for costs in (state.costs, self._shared):
            costs.add(done.costs)
        _hear(state, done.finds)
        if done.best is not None:
            state.try_plan(done.best)

    def dismiss(self, state: SearchState) -> None:
        """Let the helper go; what it has is open here again, with the bound that it has proven."""
        state.know_bound(state.frontier.bound)
        state.frontier.end_leases()
        self.close()

    def close(self) -> None:
        """Let the helper go."""
        if not self._gone:
            self._gone = True
            self._hand.close()


def share_work(team: Team | None, state: SearchState, work: Work, *, last: bool) -> Team | None:
    """Exchange open nodes with the helper, once the search is long enough for one.

    Parameters
    ----------
    last : whether the search has no nodes of its own any more
    """
    team = called(team, state, work)
    if team is not None:
        team.meet(state, now=last)
    return team


def before_near_search(team: Team | None, state: SearchState) -> None:
    """Give the helper something to do while the search goes through what is near a plan, all at once."""
    if team is not None and state.effort.near_searches:
        team.meet(state, now=True, ahead=USUAL * near_work_done(state) / state.effort.near_searches)


def dismiss(team: Team | None, state: SearchState) -> None:
    """Take back what the helper has found, and let it go."""
    if team is not None:
        while state.frontier.leases:
            team.take_back(state)
        team.dismiss(state)


def _fewest(state: SearchState) -> int:
    return FEWEST_PRICED if state.by_prices else FEWEST


def _moved(frontier: Frontier, fewest: int) -> tuple[int, int]:
    """Return how many nodes go to the helper now, and how many are to come back."""
    here, there, away = len(frontier), frontier.lent, frontier.away
    if len(away.nodes) > MOST_AWAY:
        return 0, away.count
    if here > UNEVEN * there and here > 2 * fewest:
        return min(MOST_LENT, (here - there) // 2), 0
    if there > UNEVEN * here and there > 2 * fewest:
        return 0, min(MOST_LENT, (there - here) // 2)
    if frontier.waiting_bound == away.bound:
        return 0, 0
    few = min(BETTER, here // 4, there // 4)
    return (few, 0) if frontier.waiting_bound < away.bound else (0, few)


def called(team: Team | None, state: SearchState, work: Work) -> Team | None:
    """Call a helper once a search takes long, by the clock too: no answer depends on when it starts."""
    if team is None and _possible(state) and (work_done(state) > CALLED or state.effort.limits.elapsed() > CALLED_BY):
        return Team(state, work)
    return team


def _joins(state: SearchState) -> bool:
    """Say whether a helper is to join: by counted work alone, as all that follows depends on it."""
    many, earliest = len(state.frontier) > 2 * _fewest(state), EARLIEST_PRICED if state.by_prices else EARLIEST
    return many and state.effort.own_nodes >= earliest and work_done(state) > WORTH


def _possible(state: SearchState) -> bool:
    """Say whether a search may have a helper at all."""
    return state.options.cores > 1 and not state.options.inner and state.options.lazy is None


def _nodes_left(state: SearchState) -> float:
    """Return how many nodes may still be worked on, those that the shares may take left out."""
    return state.effort.limits.nodes - state.effort.nodes - sum(lease.most_nodes for lease in state.frontier.leases)


def work_on(state: SearchState, share: Share, go_on: Callable[[], Reason | None]) -> Return:
    """Work on a share in a state of one's own, by a function that goes through its open nodes."""
    effort, frontier = state.effort, state.frontier
    until = work_done(state) + share.work
    # relaxations that have been begun are ended: the share's limits count between nodes
    effort.work_within(
        Limits(
            seconds=share.seconds,
            gap=effort.limits.gap,
            nodes=effort.own_nodes + share.most_nodes,
        ),
        enough=lambda: work_done(state) >= until,
    )
    nodes, iterations, trials = effort.own_nodes, effort.iterations, effort.spent["trials"]
    state.costs.add(share.costs)
    before = state.costs.copy()
    if share.best is not None:
        state.try_plan(share.best)
    _hear(state, share.finds)
    known = state.incumbent.value
    frontier.push(share.nodes.unpacked())
    go_on()
    back = frontier.empty() if share.back >= len(frontier) else frontier.every_other(share.back)
    return Return(
        Bundle.of(back),
        Away(count=len(frontier), bound=frontier.waiting_bound, bytes=state.held()),
        state.incumbent.best if state.incumbent.value < known else None,
        frontier.given_up,
        frontier.uncertain,
        effort.own_nodes - nodes,
        effort.iterations - iterations,
        effort.spent["trials"] - trials,
        state.costs.since(before),
        _told(state),
    )


def _told(state: SearchState) -> object:
    return None if state.finds is None else state.finds.tell()


def _hear(state: SearchState, told: object) -> None:
    if state.finds is not None and told is not None:
        state.finds.hear(told)
