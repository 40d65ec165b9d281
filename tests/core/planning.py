"""A judge of day plans that shares nothing with the planner: minute by minute, by the words of the rules."""

import itertools

from fairsquare.core.plan.asked import DayPlan


def minutes_of(request):
    return [minute for start, end in request.hours for minute in range(start, end)]


def faults(request: DayPlan, plan, *, and_earlier=True):
    """Return everything that is wrong with a plan (dicts or objects with id, person, helpers, place, start, end)."""
    worked = set(minutes_of(request))
    asked = {one.id: one for one in request.operations}
    made = {one.id: one for one in plan}
    found = [] if sorted(asked) == sorted(made) and len(plan) == len(made) else ["not the operations that were asked"]
    skills = {person.id: set(person.skills) for person in request.people}
    for id, one in made.items():
        op, bound = asked[id], [one.person, *one.helpers]
        if len(set(bound)) != 1 + op.helpers or not set(bound) <= set(skills):
            found.append(f"{id}: people {bound}")
        if op.skill is not None and op.skill not in skills[one.person]:
            found.append(f"{id}: {one.person} cannot {op.skill}")
        if one.place != op.place:
            found.append(f"{id}: place {one.place}")
        found += [f"{id}: {words}" for words in _time_faults(request, worked, asked, made, id, one.start, one.end)]
    for minute in sorted({one.start for one in plan}):
        here = [one for one in plan if one.start <= minute < one.end]
        people = [name for one in here for name in (one.person, *one.helpers)]
        if len(people) != len(set(people)):
            found.append(f"{minute}: somebody is in two places")
        for place, count in request.places.items():
            if sum(one.place == place for one in here) > count:
                found.append(f"{minute}: {place} is overfull")
    if and_earlier and not found:
        found += [f"{id} could start a minute earlier" for id in made if _could_be_earlier(request, plan, id)]
    return found


def _time_faults(request, worked, asked, made, id, start, end):
    op = asked[id]
    inside = [minute for minute in range(start, end) if minute in worked]
    if start not in worked or end - 1 not in worked or len(inside) != op.minutes:
        yield f"{start} to {end} is not {op.minutes} working minutes"
    if op.unbroken and end - start != op.minutes:
        yield "is interrupted"
    if start < op.not_before_min:
        yield "begins before it may"
    for before in op.after:
        if start < made[before].end + asked[before].wait_after_min:
            yield f"begins before {before} is over"
    if op.within_min_of and start > made[op.within_min_of.id].end + op.within_min_of.minutes:
        yield f"begins too late after {op.within_min_of.id}"


def _could_be_earlier(request, plan, id):
    worked = minutes_of(request)
    one = next(one for one in plan if one.id == id)
    at = worked.index(one.start)
    if not at:
        return False
    length = sum(one.start <= minute < one.end for minute in worked)
    moved = one.model_copy(update={"start": worked[at - 1], "end": worked[at - 1 + length - 1] + 1})
    return not faults(request, [moved if other is one else other for other in plan], and_earlier=False)


def least(request: DayPlan):
    """Return the least (lateness, finish) of all plans, by trying every start of every operation; None where there is none."""
    worked = minutes_of(request)
    operations = _topological(request.operations)
    best = [None]

    def go(k, busy, late, finish):
        if best[0] is not None and (late, finish) >= best[0]:
            return
        if k == len(operations):
            if _people_do(request, busy):
                best[0] = (late, finish)
            return
        op = operations[k]
        for first in range(len(worked) - op.minutes + 1):
            now = {**busy, op.id: (first, first + op.minutes)}
            if _may_begin(request, op, worked, busy, first) and _has_room(request, op, now):
                over = worked[first + op.minutes - 1] + 1 + op.wait_after_min
                more = max(0, over - op.due_min) if op.due_min is not None else 0
                go(k + 1, now, late + more, max(finish, over))

    go(0, {}, 0, 0)
    return best[0]


def _people_do(request, busy):
    """Whether people can be found for operations that are bound at once, each minute: tried one by one."""
    order = sorted(busy.items(), key=lambda item: item[1][0])
    asked = {one.id: one for one in request.operations}

    def assign(k, taken):
        if k == len(order):
            return True
        id, (first, after) = order[k]
        op = asked[id]
        free = [p for p in request.people if all(not (s < after and first < e) for s, e in taken.get(p.id, ()))]
        for person in free:
            if op.skill is not None and op.skill not in person.skills:
                continue
            others = [p for p in free if p is not person]
            for helpers in _choices(others, op.helpers):
                more = {**taken}
                for p in (person, *helpers):
                    more[p.id] = (*more.get(p.id, ()), (first, after))
                if assign(k + 1, more):
                    return True
        return False

    return assign(0, {})


def _may_begin(request, op, worked, busy, first):
    """Whether an operation may begin at a worked minute, after those before it that are `busy`."""
    asked = {one.id: one for one in request.operations}
    start, end = worked[first], worked[first + op.minutes - 1] + 1
    ends = {id: worked[after - 1] + 1 for id, (_, after) in busy.items()}
    if start < op.not_before_min or (op.unbroken and end - start != op.minutes):
        return False
    if any(start < ends[b] + asked[b].wait_after_min for b in op.after):
        return False
    return not (op.within_min_of and start > ends[op.within_min_of.id] + op.within_min_of.minutes)


def _has_room(request, op, now):
    """Whether its place has room for an operation in every minute of it."""
    asked = {one.id: one for one in request.operations}
    return not op.place or all(
        sum(s <= m < e and asked[id].place == op.place for id, (s, e) in now.items()) <= request.places[op.place]
        for m in range(*now[op.id])
    )


def _choices(people, many):
    if not many:
        yield ()
        return
    for k, person in enumerate(people):
        for rest in _choices(people[k + 1 :], many - 1):
            yield (person, *rest)


def _topological(operations):
    done, left = [], list(operations)
    while left:
        one = next(one for one in left if all(any(d.id == b for d in done) for b in one.after))
        done.append(one)
        left.remove(one)
    return done


def chain_faults(request: DayPlan, result):
    """Return what is wrong with the chain: a link that holds nothing up, or a first one that is held up."""
    worked = minutes_of(request)
    asked, made = {one.id: one for one in request.operations}, {one.id: one for one in result.plan}

    def holds_up(other, one):
        bound = {other.person, *other.helpers} & {one.person, *one.helpers}
        times = [other.end + asked[other.id].wait_after_min] if other.id in asked[one.id].after else []
        times += [other.end] if bound or (one.place is not None and one.place == other.place) else []
        return any(t <= one.start and not any(t <= minute < one.start for minute in worked) for t in times)

    links = [made[id] for id in result.chain]
    last = links[-1]
    found = [] if last.end + asked[last.id].wait_after_min == result.finish else ["the last does not set the finish"]
    for before, one in itertools.pairwise(links):
        held = [other for other in result.plan if other is not one and holds_up(other, one)]
        if before not in held or before.end < max(other.end for other in held):
            found.append(f"{before.id} is not what holds {one.id} up")
    if any(other is not links[0] and holds_up(other, links[0]) for other in result.plan):
        found.append("the chain could go further back")
    return found
