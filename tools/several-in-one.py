"""several-in-one.py FILE...: names each statement that is several, joined by commas, and each conditional operator in a
branch of another. It knows C++ only as clang-format lays it out."""
import re
import sys

kLiteral = re.compile(r'R"(\w*)\(.*?\)\1"|"(?:\\.|[^"\\\n])*"|\'(?:\\.|[^\'\\\n])+\'|//[^\n]*|/\*.*?\*/|^#(?:\\\n|[^\n])*', re.S | re.M)
kBegins = re.compile(r'(?:else|do|case [^:?]+:(?!:)|default:|public:|private:|(?:if|while|for|switch)(?: constexpr)? ?(?=\())\s*')
kDeclares = re.compile(r'(?!return\b|throw\b|co_return\b|delete\b)(?:[\w:<>,*&\[\] ]+[\w>*&\]] [*&]*\w+|auto&* \[.*)\s*(?:[=({\[].*)?$', re.S)
kOther = re.compile(r'(?:using|template|enum|friend|typedef|class|struct|static_assert|extern|std::function<)\b')


def parts(statement):
    """A statement between its outermost commas."""
    depth, angles, begin, found = 0, 0, 0, []
    for i, one in enumerate(statement):
        before = statement[i - 1] if i else " "
        depth += (one in "([") - (one in ")]")
        if one == "<" and (before.isalnum() or before == "_"):
            angles += 1
        elif one == ">" and angles and before != "-":
            angles -= 1
        elif one == "," and depth == 0 and angles == 0:
            found.append(statement[begin:i])
            begin = i + 1
    return found + [statement[begin:]]


def without_beginnings(statement):
    """What an if, a loop or a label does."""
    while (begins := kBegins.match(statement)):
        statement = statement[begins.end():]
        if statement.startswith("("):
            depth = 0
            for i, one in enumerate(statement):
                depth += (one == "(") - (one == ")")
                if depth == 0:
                    break
            statement = statement[i + 1:].lstrip()
    return statement


def nests(statement):
    """Has a conditional operator a second one in a branch?"""
    depth, asked = 0, {}
    for one in statement:
        depth += (one in "([") - (one in ")]")
        if one in "([,":
            asked[depth] = 0
        elif one == "?":
            asked[depth] = asked.get(depth, 0) + 1
            if asked[depth] > 1:
                return True
    return False


def statements(text):
    """Each statement with its line, and what stands in braces; what stands in inner braces is left out. Is it whole?"""
    inside, line, outer, parentheses = "", 1, [], 0
    for one in text:
        line += one == "\n"
        if one == "{":
            outer.append((inside, parentheses))
            inside, parentheses = "", 0
        elif one == "}":
            yield line, inside.split("\0")[-1].strip(), False
            inside, parentheses = outer.pop() if outer else ("", 0)
            inside += "{}" if parentheses or re.search(r"[\w>)\]=,(]\s*$", inside) and not re.search(
                r"(?:\)|const|override|noexcept|else|do|try|mutable)\s*$", inside) else "\0"
        elif one == ";" and parentheses == 0:
            yield line, inside.split("\0")[-1].strip(), True
            inside = ""
        else:
            parentheses += (one == "(") - (one == ")")
            inside += one


found = False
for name in sys.argv[1:]:
    with open(name, encoding="utf-8") as file:
        text = kLiteral.sub(lambda match: '""' + "\n" * match.group().count("\n") if match.group()[0] in "\"'R" else "\n" * match.group().count("\n"), file.read())
    for line, statement, whole in statements(text):
        does = without_beginnings(statement)
        pieces = parts(does) if whole else [does]
        joined = len(pieces) > 1 and not kOther.match(does) and not kDeclares.match(without_beginnings(pieces[0]))
        if joined or nests(statement):
            print(f"{name}:{line}: {' '.join(statement.split())[:120]}")
            found = True
sys.exit(found)
