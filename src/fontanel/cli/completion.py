"""Completion scripts, made from the parser itself, so that they never lag behind it."""

from __future__ import annotations

import argparse

SHELLS = ("bash", "zsh", "fish")


def words(parser: argparse.ArgumentParser) -> dict[str, list[str]]:
    """For each command as typed so far ("", "kb", "kb list"), the words that may follow."""
    table: dict[str, list[str]] = {}

    def visit(path: str, current: argparse.ArgumentParser) -> None:
        results: list[str] = []
        for action in current._actions:
            if isinstance(action, argparse._SubParsersAction):
                for name, child in action.choices.items():
                    results.append(name)
                    visit(f"{path} {name}".strip(), child)
            else:
                results += [option for option in action.option_strings if option.startswith("--")]
                if action.choices and not action.option_strings:
                    results += [str(choice) for choice in action.choices]
        table[path] = sorted(results, key=lambda word: (word.startswith("-"), word))

    visit("", parser)
    return table


def script(shell: str, parser: argparse.ArgumentParser) -> str:
    table = words(parser)
    if shell == "fish":
        return _fish(table)
    cases = "\n".join(
        f"    '{path}') words='{' '.join(result)}' ;;" for path, result in table.items()
    )
    body = f"""_fontanel() {{
  local path='' word words
  for word in "${{COMP_WORDS[@]:1:COMP_CWORD-1}}"; do
    case "$word" in -*) ;; *)
      case "${{path:+$path }}$word" in
        {"|".join(f"'{path}'" for path in table if path)}) path="${{path:+$path }}$word" ;;
      esac ;;
    esac
  done
  case "$path" in
{cases}
  esac
  local current="${{COMP_WORDS[COMP_CWORD]}}"
  COMPREPLY=($(compgen -W "$words" -- "$current"))
  [[ $current == -* || ${{#COMPREPLY[@]}} -gt 0 ]] || COMPREPLY=($(compgen -f -- "$current"))
}}
complete -o filenames -F _fontanel fontanel"""
    return body if shell == "bash" else f"autoload -U +X bashcompinit && bashcompinit\n{body}"


def _fish(table: dict[str, list[str]]) -> str:
    lines = []
    for path, result in table.items():
        parts = path.split()
        conditions = [f"__fish_seen_subcommand_from {part}" for part in parts] or [
            "__fish_use_subcommand"
        ]
        for word in result:
            kind = f"-l {word[2:]}" if word.startswith("--") else f"-a {word}"
            lines.append(f"complete -c fontanel -n '{'; and '.join(conditions)}' {kind}")
    return "\n".join(lines)
