"""Small bugs in the sources, for scripts/mutate and scripts/rules: what may be changed
in a line, and a copy of the tree in which it is changed, built and tested.
"""
import os
import pathlib
import re
import shutil
import subprocess
import sys

ROOT = pathlib.Path.cwd()
RULES = [  # what is found, and what it may become
    (r" < ", [" <= "]), (r" <= ", [" < "]), (r" > ", [" >= "]),
    (r" >= ", [" > "]), (r" == ", [" != "]), (r" != ", [" == "]),
    (r" && ", [" || "]), (r" \|\| ", [" && "]),
    (r" \+ ", [" - "]), (r" - ", [" + "]), (r" \* ", [" + "]),
    (r"\+\+", ["--"]), (r"--", ["++"]), (r" \+= ", [" -= "]),
    (r" -= ", [" += "]), (r" & ", [" | "]), (r" \| ", [" & "]),
    (r"\btrue\b", ["false"]), (r"\bfalse\b", ["true"]),
    (r"\bif \((?!!)", ["if (!"]),  # closed below
    (r"\breturn 0;", ["return 1;"]),
    (r"(?<![\w.])(\d+)(?![\w.])", ["+1"]),
]


def lines_of(path):
    """Lines that may be mutated: code, outside comments, checks and tables.
    Validators are checks. What asks for memory ahead of time (fetch_...) can
    change nothing that is told."""
    inside = checks = False
    function = ""
    text = path.read_text().split("\n")
    for number, line in enumerate(text):
        bare = line.strip()
        if line[:1] not in ("", " ", "{", "}", "#", "/"):
            checks = re.search(r"validate|listed_once|\bfetch_", line)
            function = re.sub(r"\(.*", "", line).split(" ")[-1].lstrip("*")
        if inside or bare.startswith("/*"):
            inside = "*/" not in bare
            continue
        if not line.startswith("    ") or bare.startswith(("#", "*", '"', "case ",
                                                           "static const")):
            continue
        if checks or re.search(r"IKVI_CHECK|IKVI_FETCH|\bfetch_", line):
            continue
        following = text[number + 1] if number + 1 < len(text) else ""
        yield number, line, function, following


# A comparison that chooses between two values which are one where both sides are
# equal: the less or greater of two, a size, what is over, a high mark.
PLAIN = r"(?:\w|->|[.\[\]])+(?:\([^()]*\))?"
CHOICE = re.compile(rf"({PLAIN}) (?:<|<=|>|>=) (-?{PLAIN}) "
                    r"\? ([^?:;,]+) : ([^?:;,]+?)[;,)]")
MARK = re.compile(r"\s*if \((.+) (?:<|<=|>|>=) (.+)\)$")


def no_boundary(line, following):
    """Where it is all the same whether equal ones count: columns of the line."""
    found = []
    for match in CHOICE.finditer(line):
        a, b, then, other = (part.strip() for part in match.groups())
        pair = {then, other}
        if pair == {a, b} or (b == "0" and pair == {a, "-" + a}) or \
                pair in ({f"{a} - {b}", "0"}, {f"{b} - {a}", "0"}):
            found.append(range(match.start(), match.start(3)))
    match = MARK.match(line)
    if match:
        a, b = match.groups()
        if following.strip() in (f"{a} = {b};", f"{b} = {a};"):
            found.append(range(len(line)))
    return found


def close_test(line):
    """`if (!a && b)` of `if (a && b)`: the negation holds for all of it."""
    begin = line.index("if (!") + len("if (!")
    depth = 1
    for at in range(begin, len(line)):
        depth += (line[at] == "(") - (line[at] == ")")
        if depth == 0:
            return line[:begin] + "(" + line[begin:at] + ")" + line[at:]
    return None


# A local array: one that is larger is no bug, so its size is made smaller; also
# several in a row.
ARRAY = re.compile(r"\s+(?:static |const )*\w+ \w+(\[[^\]]*\])(?: = .*|);$")
ARRAYS = re.compile(r"\s+(?:static |const )*\w+ \w+(?:\[\w+\])?(?:, \w+(?:\[\w+\])?)+;$")


def mutations(line, following=""):
    found, same = [], no_boundary(line, following)
    code = line.split("/*")[0]
    array = ARRAY.match(code.rstrip())
    arrays = ARRAYS.match(code.rstrip())
    for pattern, to in RULES:
        for match in re.finditer(pattern, code):
            if code[:match.start()].count('"') % 2:
                continue
            if match.group() in (" < ", " <= ", " > ", " >= ") and \
                    any(match.start() in columns for columns in same):
                continue
            in_size = arrays or (array and array.start(1) < match.start() < array.end(1))
            if to == ["+1"]:
                new = str(int(match.group(1)) + (-1 if in_size else 1))
            else:
                new = to[0]
            changed = line[:match.start()] + new + line[match.end():]
            if "if (!" in new:
                changed = close_test(changed)
            if changed:
                found.append(changed)
    bare = code.strip()
    if re.match(r"[\w>.\-\[\]*()]+ ?(=|\+=|-=|\|=|&=) .*;$|[a-z]\w*\(.*\);$", bare):
        found.append(re.match(r" *", line).group() + ";")
    return found


class Tree:
    """A copy of what git knows, built beside it."""

    def __init__(self, folder, flags=""):
        self.folder = folder
        files = subprocess.run(["git", "ls-files"], stdout=subprocess.PIPE,
                               text=True, check=True).stdout.split("\n")
        for name in filter(None, files):
            to = folder / name
            to.parent.mkdir(parents=True, exist_ok=True)
            if (ROOT / name).exists():
                shutil.copy(ROOT / name, to)
        self.run(["cmake", "-G", "Ninja", "-S", ".", "-B", "build",
                  "-DCMAKE_BUILD_TYPE=Debug", "-DCMAKE_C_FLAGS_DEBUG=-O1 -g1 " + flags,
                  "-DIKV_TESTS=ON"], 600)
        if not self.build():
            sys.exit("the tree does not build: scripts/bootstrap build test installs what it needs")

    def run(self, command, seconds, to=subprocess.DEVNULL, **environment):
        process = subprocess.Popen(
            command, cwd=self.folder, stdout=to,
            stderr=subprocess.DEVNULL, start_new_session=True,
            env={**os.environ, **environment})
        try:
            return process.wait(timeout=seconds)
        except subprocess.TimeoutExpired:
            return 1
        finally:  # tests are processes of their own groups, of one session
            subprocess.run(["pkill", "-KILL", "-s", str(process.pid)], check=False)
            process.wait()

    def passes(self, suite):
        return self.run(["build/tests/ikvar_tests"], 240, CK_RUN_SUITE=suite,
                        CK_FORK="yes", CK_DEFAULT_TIMEOUT="60") == 0

    def told_as_before(self):
        """The made-up programs, which most mutants change: they need no more than
        one small program to be linked."""
        for golden in sorted((self.folder / "tests/golden").glob("programs-*.txt")):
            seed = golden.stem.split("-")[1]
            told = self.folder / "told.txt"
            with open(told, "w") as to:
                if self.run(["build/fuzz/fuzz_program", "--made", seed, "200"], 120,
                            to) != 0 or told.read_text(errors="replace") != golden.read_text():
                    return False
        return True

    def build(self, *targets):
        return self.run(["cmake", "--build", "build", "-j", "1"] +
                        [word for name in targets for word in ("--target", name)],
                        900) == 0

    def planted(self, name, number, changed):
        """The file's text, whose line is another until put back."""
        path = self.folder / name
        text = path.read_text()
        lines = text.split("\n")
        lines[number] = changed
        path.write_text("\n".join(lines))
        return text
