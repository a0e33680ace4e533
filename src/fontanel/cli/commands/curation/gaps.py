"""`fontanel gap` and `fontanel feedback`: what was not answered well, and what askers say."""

from __future__ import annotations

import argparse
from typing import Any

from rich.text import Text

from fontanel.cli.context import Context
from fontanel.cli.format import moment, percent
from fontanel.schemas import FeedbackChange, FeedbackItem, GapChange, GapDetail, GapOut
from fontanel.schemas.display import place

_RESOLUTIONS = ("document", "source", "approved", "not_needed", "other")
_SUGGESTIONS = {
    "write": "nothing near is in the documents: write a document or connect a source",
    "approve": "something near is in the documents: approve an answer, or make them clearer",
    "correct": "the answer was not helpful: approve a better one",
}


def add_gap_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    listed = verb(group, "list", list_gaps, "list questions that were not answered well", common)
    listed.add_argument("--state", choices=["open", "resolved"], default="open")
    listed.add_argument(
        "--kind",
        choices=["declined", "weak", "unhelpful"],
        help="only gaps with such questions",
    )
    listed.add_argument("--desk", help="only what this desk was asked")
    listed.add_argument("--assignee", help="only those assigned to this person")
    listed.add_argument("--text", help="only those whose question contains it")
    listed.add_argument("--limit", type=int, default=50)

    show = verb(group, "show", show_gap, "show a gap with its questions", common)
    assign = verb(group, "assign", assign_gap, "assign a gap to somebody", common)
    comment = verb(group, "comment", comment_on_gap, "comment on a gap", common)
    resolve = verb(group, "resolve", resolve_gap, "resolve a gap", common)
    resolve.add_argument(
        "--by",
        dest="resolution",
        choices=_RESOLUTIONS,
        default="other",
        help="what was done about it",
    )
    reopen = verb(group, "open", open_gap, "open a resolved gap", common)
    out = verb(
        group, "take-out", take_out, "make a gap of its own of a question in the wrong gap", common
    )
    for parser in (show, assign, comment, resolve, reopen, out):
        parser.add_argument("gap", metavar="ID")
    assign.add_argument("who", metavar="WHO", help="a name; '' for nobody")
    comment.add_argument("text", metavar="TEXT")
    out.add_argument("answer", metavar="ANSWER", help="the id of the question's answer")


def add_feedback_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    listed = verb(group, "list", list_feedback, "list answers marked as unhelpful", common)
    listed.add_argument("--helpful", action="store_true", help="those marked as helpful instead")
    listed.add_argument("--all", action="store_true", help="also what was handled")
    listed.add_argument("--desk", help="only of this desk")
    listed.add_argument("--assignee", help="only what is assigned to this person")
    assign = verb(group, "assign", assign_feedback, "assign feedback to somebody", common)
    reply = verb(group, "reply", reply_to_feedback, "answer the asker", common)
    reply.add_argument("--keep-open", action="store_true", help="do not mark it as handled")
    handle = verb(group, "handle", handle_feedback, "mark feedback as handled", common)
    for parser in (assign, reply, handle):
        parser.add_argument("feedback", metavar="ID")
    assign.add_argument("who", metavar="WHO", help="a name; '' for nobody")
    reply.add_argument("text", metavar="TEXT")


def list_gaps(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_gaps(
        state=options.state,
        kind=options.kind,
        desk=options.desk,
        assignee=options.assignee,
        text=options.text,
        limit=options.limit,
    )
    table = context.table(
        [
            (
                one.id,
                one.count,
                one.question,
                _kinds(one),
                "".join(_bar(count) for count in one.weeks),
                one.assignee,
                moment(one.last_at),
            )
            for one in result
        ],
        id="left",
        asked="right",
        question="left",
        why="left",
        weeks="left",
        assignee="left",
        last="left",
    )
    none = "No open gaps: every question was answered well." if options.state == "open" else "None."
    context.show(result, table if result else none)


def _kinds(gap: GapOut) -> str:
    counts = {"declined": gap.declined, "weak": gap.weak, "unhelpful": gap.unhelpful}
    return ", ".join(f"{count} {name}" for name, count in counts.items() if count)


def _bar(count: int) -> str:
    """Return a character as high as a count."""
    return "▁▂▃▄▅▆▇█"[min(count, 7)] if count else "·"


def show_gap(context: Context, options: argparse.Namespace) -> None:
    _print(context, context.client.show_gap(options.gap))


def _print(context: Context, gap: GapDetail) -> None:
    if context.json:
        context.show(gap)
        return
    context.say(Text(gap.question, "bold"))
    facts = [gap.state if gap.state == "open" else f"resolved: {gap.resolution.replace('_', ' ')}"]
    facts += [f"asked {gap.count} times", _kinds(gap)]
    facts += [f"assigned to {gap.assignee}"] if gap.assignee else []
    context.say(Text(", ".join(facts), "dim"))
    if gap.state == "open":
        context.say(Text(_SUGGESTIONS[gap.suggestion], "yellow"))
    for one in gap.questions:
        asker = f"  {one.asker}" if one.asker else ""
        context.say(Text.assemble((f"{one.kind:>10}  ", "cyan"), one.question))
        context.say(Text(f"{'':12}{moment(one.asked_at)}  {one.answer_id}{asker}", "dim"))
    if gap.passages:
        context.say(Text("\nNearest passages", "bold"))
    for passage in gap.passages:
        where = place(passage.title, passage.locator)
        head = f"{percent(passage.match):>6}  {passage.title}{', ' if where else ''}{where}"
        context.say(Text(head, "cyan"))
        context.say(Text(f"        {' '.join(passage.text.split())[:160]}", "dim"))
    for remark in gap.remarks:
        context.say(Text.assemble((f"\n{remark.author}: ", "bold"), remark.text))
    if gap.answer is not None:
        context.say(Text("\nAnswered by now", "bold"))
        context.say(Text(gap.answer.text))


def assign_gap(context: Context, options: argparse.Namespace) -> None:
    gap = context.client.change_gap(options.gap, GapChange(assignee=options.who))
    context.show(gap, f"Assigned to {gap.assignee}." if gap.assignee else "Assigned to nobody.")


def comment_on_gap(context: Context, options: argparse.Namespace) -> None:
    context.show(context.client.comment_on_gap(options.gap, options.text), "Added.")


def resolve_gap(context: Context, options: argparse.Namespace) -> None:
    change = GapChange(state="resolved", resolution=options.resolution)
    gap = context.client.change_gap(options.gap, change)
    context.show(gap, "Resolved. It opens again when it is asked again and not answered well.")


def open_gap(context: Context, options: argparse.Namespace) -> None:
    context.show(context.client.change_gap(options.gap, GapChange(state="open")), "Open again.")


def take_out(context: Context, options: argparse.Namespace) -> None:
    gap = context.client.take_question_out(options.gap, options.answer)
    context.show(gap, f"{gap.id} is a gap of its own.")


def list_feedback(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_feedback(
        helpful=options.helpful,
        handled=None if options.all else False,
        desk=options.desk,
        assignee=options.assignee,
    )
    if context.json or not result:
        context.show(result, "No feedback that waits.")
        return
    for one in result:
        _print_feedback(context, one)


def _print_feedback(context: Context, one: FeedbackItem) -> None:
    state = "handled" if one.handled else one.assignee or "open"
    head = f"  {one.desk}, {moment(one.created_at)}, {state}"
    context.say(Text.assemble((one.id, "cyan"), f"  {one.question}", (head, "dim")))
    context.say(Text(f"    {' '.join(one.text.split())[:200]}", "dim"))
    said = ": ".join(filter(None, (one.reason.replace("_", " "), one.comment)))
    if said:
        context.say(Text(f"    {one.asker or 'the asker'}: {said}"))
    if one.reply:
        context.say(Text(f"    {one.replied_by} replied: {one.reply}"))


def assign_feedback(context: Context, options: argparse.Namespace) -> None:
    one = context.client.change_feedback(options.feedback, FeedbackChange(assignee=options.who))
    context.show(one, f"Assigned to {one.assignee}." if one.assignee else "Assigned to nobody.")


def reply_to_feedback(context: Context, options: argparse.Namespace) -> None:
    handled = None if options.keep_open else True
    change = FeedbackChange(reply=options.text, handled=handled)
    one = context.client.change_feedback(options.feedback, change)
    context.show(one, "The asker sees the reply below the answer.")


def handle_feedback(context: Context, options: argparse.Namespace) -> None:
    change = FeedbackChange(handled=True)
    context.show(context.client.change_feedback(options.feedback, change), "Handled.")
