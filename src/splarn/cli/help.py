"""What `--help` and `splarn help` print: the same shape everywhere, whole lines at any width."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterable, Sequence
from textwrap import wrap
from typing import Any

from typer.core import TyperCommand, TyperGroup, TyperOption

# The widest line that is easy to read, the narrowest that can be, and how far things stand in.
WIDEST, NARROWEST, INDENT = 96, 40, 2
# Where texts begin at most; longer words have a line of their own.
LONGEST_WORDS = 28
# What every command takes stands at the end.
LEVERS = "Levers"
ALWAYS = ("--job", "--yes", "--json", "--quiet", "--verbose", "--log", "--help")
OVERVIEW = "Options"


def _width() -> int:
    return min(max(shutil.get_terminal_size((80, 24)).columns, NARROWEST), WIDEST)


def _folded(text: str, indent: int, width: int) -> list[str]:
    return [" " * indent + line for line in wrap(text, width - indent, break_on_hyphens=False)]


def _listed(entries: Sequence[tuple[str, str]], width: int) -> list[str]:
    """Words at the left, what they mean at the right, aligned."""
    fitting = [len(words) for words, _ in entries if len(words) <= LONGEST_WORDS]
    start = 2 * INDENT + max(fitting, default=LONGEST_WORDS) + 2
    lines: list[str] = []
    for words, meaning in entries:
        head = " " * 2 * INDENT + words
        texts = _folded(meaning, start, width) or [""]
        if len(head) + 2 <= start:
            texts[0] = head.ljust(start) + texts[0].lstrip()
        else:
            lines.append(head)
        lines += texts
    return [line.rstrip() for line in lines]


def _paragraphs(text: str, width: int) -> list[str]:
    """A docstring's paragraphs; its example stands alone, as it is to be typed."""
    lines: list[str] = []
    for paragraph in re.sub(r"\[/?bold\]", "", text).split("\n\n"):
        joined = " ".join(paragraph.split())
        example = re.fullmatch(r"Example: (.+)", joined)
        if lines:
            lines.append("")
        if example:
            lines += [" " * INDENT + "For example:", " " * 2 * INDENT + example[1]]
        else:
            lines += _folded(joined, INDENT, width)
    return lines


def _words(option: Any) -> str:
    """How a parameter is typed."""
    if not isinstance(option, TyperOption):
        return str(option.metavar or option.human_readable_name)
    # Of a lever, names of before are taken and no longer shown.
    opts = option.opts[:1] if option.rich_help_panel == LEVERS else option.opts
    names = sorted(opts, key=lambda name: (name.startswith("--"), name))
    shown = ", ".join(names) + "".join(f", {name}" for name in option.secondary_opts)
    return shown if option.is_flag else f"{shown} {option.metavar or 'VALUE'}"


def _meaning(option: Any) -> str:
    """What a parameter does, with its default and bounds."""
    text = (getattr(option, "help", None) or "").strip()
    default = option.default
    told = []
    if option.secondary_opts:
        told.append(f"default: {(option.opts if default else option.secondary_opts)[0]}")
    elif not isinstance(default, bool) and default not in (None, "", ()) and not callable(default):
        told.append(f"default: {default}")
    # Where these stand differs between versions of Typer.
    kind = getattr(option, "type", option)
    least, most = (getattr(kind, name, None) for name in ("min", "max"))
    if least is not None and most is not None:
        told.append(f"from {least} to {most}")
    elif least is not None and least > 1:
        told.append(f"{least} or more")
    return f"{text} ({'; '.join(told)})" if told else text


def _sections(command: Any, context: Any) -> Iterable[tuple[str, list[tuple[str, str]]]]:
    """The parameters by group: what to work on, levers, and what every command takes."""
    shown = [one for one in command.get_params(context) if not getattr(one, "hidden", False)]
    groups: dict[str, list[tuple[str, str]]] = {"Takes": [], LEVERS: [], "Always": []}
    for one in shown:
        panel = getattr(one, "rich_help_panel", None) or "Takes"
        if isinstance(one, TyperOption) and set(one.opts) & set(ALWAYS):
            panel = "Always"
        groups.setdefault(panel, []).append((_words(one), _meaning(one)))
    return groups.items()


def command_help(command: Any, context: Any) -> str:
    """The help of one command."""
    width = _width()
    arguments = [
        f"[{one.metavar or one.human_readable_name}]"
        for one in command.get_params(context)
        if not isinstance(one, TyperOption)
    ]
    lines = [" ".join([context.command_path, *arguments, "[options]"]), ""]
    lines += _paragraphs(command.help or "", width)
    for name, entries in _sections(command, context):
        if entries:
            lines += ["", " " * INDENT + name, *_listed(entries, width)]
    return "\n".join(lines)


def overview(group: Any, context: Any) -> str:
    """What `splarn` alone prints: every command, in the order of the work."""
    width = _width()
    lines = [f"{context.command_path} COMMAND [options]", "", *_paragraphs(group.help, width)]
    panels: dict[str, list[tuple[str, str]]] = {}
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if command.hidden:
            continue
        first = re.sub(r"\[/?bold\]", "", command.help or "").split("\n\n")[0]
        panels.setdefault(command.rich_help_panel, []).append((name, " ".join(first.split())))
    widest = max(len(name) for entries in panels.values() for name, _ in entries)
    for panel, entries in panels.items():
        padded = [(name.ljust(widest), text) for name, text in entries]
        lines += ["", " " * INDENT + panel, *_listed(padded, width)]
    options = [(_words(one), _meaning(one)) for one in group.get_params(context)]
    lines += ["", " " * INDENT + OVERVIEW, *_listed(options, width)]
    return "\n".join(lines)


class Command(TyperCommand):
    """A command with our help."""

    def get_help(self, ctx: Any) -> str:
        """The help, to be printed."""
        return command_help(self, ctx)


class CommandGroup(TyperGroup):
    """All commands, with our overview."""

    def get_help(self, ctx: Any) -> str:
        """The overview, to be printed."""
        return overview(self, ctx)
