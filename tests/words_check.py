#!/usr/bin/python3
"""Every verb and option that the tool knows stands in the man page and is offered by the completion.

    words_check.py TOOL SOURCE
"""
import re
import subprocess
import sys

tool, source = sys.argv[1:]
man = open(f"{source}/docs/man/nuvrat.1").read().replace("\\-", "-")
wrong = []


def out(*command):
    return subprocess.run(command, capture_output=True, text=True).stdout


def offered(*words):
    """What bash would offer for the last of these words."""
    script = ("source {}/tools/nuvrat/completion.bash; COMP_WORDS=(nuvrat {}); COMP_CWORD={}; "
              "compopt() {{ :; }}; _nuvrat; echo \"${{COMPREPLY[*]}}\"").format(
                  source, " ".join(f"'{w}'" for w in words), len(words))
    return set(out("bash", "-c", script).split())


top = out(tool, "--help")
verbs = re.findall(r"^  ([a-z]+)  ", top[top.index("Subcommands"):], re.M)
if len(verbs) < 11:
    wrong.append(f"the help names only {verbs}")
count = 0
for verb in verbs:
    help_text = out(tool, verb, "--help")
    if any(len(line) > 80 for line in help_text.splitlines()):
        wrong.append(f"{verb} --help is wider than 80 columns")
    if not re.search(rf'^\.BI "{verb} ', man, re.M):
        wrong.append(f"the man page lacks {verb}")
    if verb not in offered(""):
        wrong.append(f"the completion lacks {verb}")
    options = set(re.findall(r"(--[a-z-]+)", help_text.split("Options:")[1]))
    for option in sorted(options):
        count += 1
        if option not in man:
            wrong.append(f"the man page lacks {option} of {verb}")
        if option not in offered(verb, "x", option[:3]):
            wrong.append(f"the completion lacks {option} of {verb}")
    for option in offered(verb, "x", "--") - options:
        wrong.append(f"the completion offers {option}, which {verb} does not know")
# Every goal of the help.
goals = re.findall(r"^  (\S+)=(\S+) {2,}", out(tool, "assess", "--help").split("Goals:")[1], re.M)
if len(goals) < 6:
    wrong.append(f"the help names only {goals}")
for subject, states in goals:
    if not re.search(re.escape(subject).replace("pN", "p[0-9]").replace("gN", "g[0-9]") + "=", man):
        wrong.append(f"the man page lacks {subject}")
    for state in states.split("|"):
        count += 1
        if state == "TEXT" or "SIZE" in state and "[" not in state:
            continue
        state = state.removesuffix("[:SIZE]")
        if state not in offered("assess", "d", subject.replace("N", "3"), "="):
            wrong.append(f"the completion lacks {subject}={state}")
for words, expected in ((("rewrite", "d", "table", "=", "g"), {"gpt"}),
                        (("assess", "d", "p3", "="), {"ntfs", "fat32", "fat16", "logical", "primary", "gone"}),
                        (("check", "d", "--unowned", "k"), {"keep"}),
                        (("rewrite", "d", "ta"), {"table="})):
    if offered(*words) != expected:
        wrong.append(f"{words}: the completion offers {offered(*words)}")
made = subprocess.run([f"{source}/scripts/words", "--check", tool], capture_output=True, text=True)
if made.returncode != 0:
    wrong.append(made.stdout + made.stderr)
warnings = subprocess.run(["man", "--warnings", "-E", "UTF-8", "-l", "-Tutf8", "-Z",
                           f"{source}/docs/man/nuvrat.1"], capture_output=True, text=True).stderr
if warnings.strip():
    wrong.append(f"the man page: {warnings}")
for line in wrong:
    print(line)
print(f"{len(verbs)} verbs, {count} options")
sys.exit(1 if wrong else 0)
