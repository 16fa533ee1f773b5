#!/usr/bin/env python3
"""words.py OUTPUT-DIRECTORY: makes command_table.cpp, topics.cpp and hambrel.1.scd from src/cli/words and docs/man.

What is wrong in the data ends the build with a message that names the file and the place.
"""
import pathlib
import re
import sys
import tomllib

SOURCE = pathlib.Path(__file__).resolve().parent.parent
WORDS = SOURCE / "src/cli/words"
KINDS = ("installed held not-held wanted pulled-in shelved packages repositories checkpoints transactions moments "
         "directories files paths configs conditions commands ledger-kinds services served").split()
SPEC_TEXT = ("A SPEC is NAME, 'NAME>=VERSION' (or = != < <= >), NAME@CHANNEL, group:NAME, the /PATH of a file it has, "
             "./FILE.hambrel, or 'GLOB*'. `hambrel help specs` has examples.")


def fail(where, problem):
    sys.exit(f"words.py: {where}: {problem}")


def known(table, allowed, where):
    for key in table:
        if key not in allowed:
            fail(where, f"unknown key {key}")
    return table


def quoted(text):
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'


def enumerator(kind):
    return "Kind::" + "".join(part.capitalize() for part in (kind or "none").split("-"))


def expected(value, where):
    """The kind of what may follow, and the first words with the kind of what follows each."""
    if value is None or isinstance(value, str):
        kind, firsts = value, {}
    else:
        kind, firsts = None, {word: None for word in value} if isinstance(value, list) else value
    for one in (kind, *firsts.values()):
        if one and one not in KINDS:
            fail(where, f"unknown kind {one}")
    return kind, firsts


def option(given, data, where):
    if isinstance(given, str):
        if given not in data["option"]:
            fail(where, f"unknown option {given}")
        return {"name": given, **data["option"][given]}
    return given


def options_of(names, data, where):
    result = []
    for name in names:
        if isinstance(name, str) and name.startswith("set:"):
            result += options_of(data["sets"][name[4:]], data, where)
        else:
            result.append(option(name, data, where))
    for one in result:
        known(one, ("name", "letter", "value", "repeated", "help", "complete"), f"{where}, --{one.get('name')}")
    return result


class Table:
    """Rows of constants, those that others point to before them."""

    def __init__(self, data):
        self.data, self.arrays = data, []

    def array(self, kind, name, items):
        if not items:
            return "{}"
        self.arrays.append(f"constexpr {kind} {name}[] = {{\n    " + ",\n    ".join(items) + "};\n")
        return name

    def completion(self, value, name, where):
        kind, firsts = expected(value, where)
        rows = [f"{{{quoted(word)}, {enumerator(then)}}}" for word, then in firsts.items()]
        return f"{{{enumerator(kind)}, {self.array('FirstWord', name, rows)}}}"

    def options(self, names, name, where):
        rows = []
        for one in options_of(names, self.data, where):
            letter = f"'{one['letter']}'" if "letter" in one else "0"
            value = quoted(one["value"]) if "value" in one else "nullptr"
            expects = self.completion(one.get("complete"), f"{name}_{one['name'].replace('-', '_')}", where)
            repeated = "true" if one.get("repeated") else "false"
            rows.append(f"{{{quoted(one['name'])}, {letter}, {value}, {quoted(one['help'])}, {repeated}, {expects}}}")
        return self.array("OptionSpec", name + "_options", rows)

    def command(self, one):
        where = f"commands.toml: {one.get('name')}"
        known(one, ("name", "task", "usage", "summary", "text", "words", "complete", "options", "examples", "hidden",
                    "paged"),
              where)
        if one["task"] not in self.data["tasks"]:
            fail(where, f"unknown task {one['task']}")
        if one["summary"].endswith("."):
            fail(where, "a summary ends without a full stop")
        name = "of_" + one["name"].replace("-", "_")
        fewest, *most = one.get("words", [0])
        examples = [f"{{{quoted(line)}, {quoted(meaning)}}}" for line, meaning in one.get("examples", [])]
        cells = [quoted(one["name"]), quoted(self.data["tasks"][one["task"]]), quoted(one["usage"]),
                 quoted(one["summary"]), quoted(text_of(one)), self.options(one.get("options", []), name, where),
                 self.array("Example", name + "_examples", examples), str(fewest), str(most[0] if most else "SIZE_MAX"),
                 self.completion(one.get("complete"), name + "_words", where), name.replace("of_", "run_", 1),
                 "true" if one.get("hidden") else "false", "true" if one.get("paged") else "false"]
        return "{" + ", ".join(cells) + "}"

    def source(self):
        common = self.options(self.data["common"], "of_all", "commands.toml: common")
        rows = [self.command(one) for one in self.data["command"]]
        commands = self.array("Command", "kCommands", rows)
        return "\n".join([
            "// Made by tools/words.py from src/cli/words/commands.toml.", '#include "cli/command.h"', "",
            "namespace hambrel::cli {", "", "namespace {", "", *self.arrays, "}  // namespace", "",
            f"std::span<const OptionSpec> common_options() {{ return {common}; }}", "",
            f"std::span<const Command> commands() {{ return {commands}; }}", "", "}  // namespace hambrel::cli", ""])


def text_of(command):
    return SPEC_TEXT if command.get("text") == "SPEC" else command.get("text", "")


def topic_table(topics):
    rows = [f"{{{quoted(one['name'])}, {quoted(one['summary'])}, {quoted(one['text'].strip(chr(10)))}}}" for one in topics]
    return "\n".join(["// Made by tools/words.py from src/cli/words/topics.toml.", '#include "cli/command.h"', "",
                      "namespace hambrel::cli {", "",
                      "std::span<const Topic> topics() {", "  static constexpr Topic kTopics[] = {\n      " + ",\n      ".join(rows) + "};",
                      "  return kTopics;", "}", "", "}  // namespace hambrel::cli", ""])


def escaped(text):
    return re.sub(r"([*_\\~#])|^-", lambda found: "\\" + found[0], text).replace("`", "")


def manual_option(one):
    names = (f"*-{one['letter']}*, " if "letter" in one else "") + f"*--{one['name']}*"
    return f"{names} _{one['value']}_" if "value" in one else names


def manual_options(options):
    return "".join(f"{manual_option(one)}\n\t{escaped(one['help'][0].upper() + one['help'][1:])}.\n\n" for one in options)


def manual_commands(data):
    out = []
    for task, title in data["tasks"].items():
        out.append(f"## {re.sub(r' [(].*', '', title)}\n\n")
        for one in data["command"]:
            if one["task"] != task or one.get("hidden"):
                continue
            text = text_of(one)
            out.append(f"*{one['name']}* {escaped(one['usage'])}\n\t{escaped(one['summary'][0].upper() + one['summary'][1:])}.")
            if text:
                out.append(f" {escaped(text)}")
            out.append("\n\n")
            own = options_of(one.get("options", []), data, one["name"])
            if own:
                out.append("\tOptions: " + ", ".join(manual_option(option) for option in own) + "\n\n")
    return "".join(out)


def all_options(data):
    """Each option once that means the same everywhere, then those of single commands."""
    shared = options_of(data["option"].keys(), data, "option")
    out = manual_options(shared)
    for one in data["command"]:
        own = [option for option in one.get("options", []) if not isinstance(option, str)]
        if own:
            out += f"## Of {one['name']}\n\n" + manual_options(own)
    return out


def manual_topics(topics):
    out = []
    for one in topics:
        out.append(f"# {one['name'].replace('-', ' ').upper()}\n\n")
        for block in one["text"].strip("\n").split("\n\n"):
            if block.startswith("  "):
                out.append("```\n" + "\n".join(line[2:] for line in block.split("\n")) + "\n```\n\n")
            else:
                out.append(escaped(block) + "\n\n")
    return "".join(out)


def main():
    target = pathlib.Path(sys.argv[1])
    data = tomllib.loads((WORDS / "commands.toml").read_text())
    topics = tomllib.loads((WORDS / "topics.toml").read_text())["topic"]
    manual = (SOURCE / "docs/man/hambrel.1.scd.in").read_text()
    examples = "".join(f"*{escaped(line)}*\n\t{escaped(meaning[0].upper() + meaning[1:])}.\n\n"
                       for one in data["command"] for line, meaning in one.get("examples", []) if meaning)
    for mark, text in (("@COMMANDS@", manual_commands(data)), ("@OPTIONS@", all_options(data)),
                       ("@TOPICS@", manual_topics(topics)), ("@EXAMPLES@", examples)):
        manual = manual.replace(mark, text.strip("\n"))
    for name, text in (("command_table.cpp", Table(data).source()), ("topics.cpp", topic_table(topics)),
                       ("hambrel.1.scd", manual)):
        (target / name).write_text(text)


main()
