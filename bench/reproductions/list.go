package main

// oneFile begins a project of one module, in the directory of the script.
const oneFile = `printf '[environments.north]\n' > knothole.toml; `

// fleet writes a project of N services whose settings all come from one map of records, each different in both
// environments.
const fleet = `python3 - "$N" <<'P'
import sys
n = int(sys.argv[1])
open('knothole.toml', 'w').write('[environments.a]\nlayers = ["shared.yaml", "a.yaml"]\n'
    '[environments.b]\nlayers = ["shared.yaml", "b.yaml"]\n')
open('main.knot', 'w').write('''input services: { *: { port: int, host: string, limits: { cpu: int, memory: int } } }
input scale: int
input domain: string
for name, s in services {
  document "services/${name}.yaml" = {
    name: name, port: s.port + scale, host: "${s.host}.${domain}",
    limits: { cpu: s.limits.cpu * scale, memory: s.limits.memory * scale },
    url: "https://${s.host}.${domain}:${s.port}"
  }
}
''')
with open('shared.yaml', 'w') as f:
    f.write('services:\n')
    for i in range(n):
        f.write('  s%d: { port: %d, host: h%d, limits: { cpu: %d, memory: %d } }\n' %
            (i, 8000 + i, i, i % 7 + 1, i % 9 + 1))
for env, scale in (('a', 1), ('b', 2)):
    open(env + '.yaml', 'w').write('scale: %d\ndomain: %s.example\n' % (scale, env))
P
`

var reproductions = []reproduction{
	// attack.md
	{finding: "attack A1", file: "attack/cases/A1-git-lazy-fetch/run.sh", wrong: `has run`,
		right: []string{`impact main: rc=2`, `render --secrets: rc=2`}},
	{finding: "attack A2", file: "attack/cases/A2-git-in-check/run.sh", wrong: `has run`,
		right: []string{`check: rc=0`}},
	{finding: "attack A3", file: "attack/cases/A3-git-bomb/run.sh",
		wrong: `out of memory|^[0-9.]+s [0-9]{6,}KB|^[0-9]{2}\.[0-9]+s`,
		right: []string{`trees6: the directory at .* has more than 100000 files`, `trees7: .*more than`}},
	{finding: "attack A4", file: "attack/cases/A4-git-names/run.sh", wrong: `lib/b\.yaml.*twice|duplicate entries`,
		right: []string{`has a path of more than 4096 bytes`, `two files called "main\.knot"`, `"\.\./a\.yaml"`}},
	{finding: "attack A4 long", file: "attack/cases/A4-git-names/run2.sh",
		right: []string{`(?s)(has a path of more than 4096 bytes\n.*){6}`}},
	{finding: "attack A5", file: "attack/cases/A5-completion/run.sh", wrong: `>>> it has run`,
		right: []string{`bash: zz;`}},
	{finding: "attack A6", file: "attack/cases/A6-drift/run.sh", wrong: `\[drift.*CANARY`,
		right: []string{`commands on files that hold Secrets`}},
	{finding: "attack A7", file: "attack/cases/A7-inputs-panic/run.sh", right: []string{`(?s)(== a\.yaml.*){11}`}},
	{finding: "attack A8", file: "attack/cases/A8-cel-check/run.sh",
		wrong: `fatal|[0-9]{2}\.[0-9]+s user|KB.*[0-9]{7}KB`,
		right: []string{`(?s)(rc=1\n.*){2}`}},
	{finding: "attack A8 text", script: oneFile + `echo 'document "a.yaml" = ` +
		`for i in 1..15000 -> "a" matches "(a{1,900}){1,1}${i}"' > main.knot; ulimit -t 20; "$KN" check; echo "rc=$?"`,
		wrong: `rc=(137|152)`, right: []string{`needs more than 100 million steps`}},
	{finding: "attack C1", file: "attack/cases/C1-prune/run.sh", wrong: `evil`,
		right: []string{`rendered/docs/notes\.txt`, `src/lib/l\.knot`, `other/n `, `gone/mine`, `keys/ann/id`,
			`home/docs/n$`}},
	{finding: "attack C1 two", file: "attack/cases/C1-prune/run2.sh", wrong: `work/ann is removed`,
		right: []string{`(?s)(never committed.*){1}`, `notes\.txt: error: was not written by knothole`,
			`its journal was not written on this machine`}},
	{finding: "attack B1", file: "attack/cases/B1-noninterference/run.sh", wrong: `^CANARY|^CACHE|^DIFFERS \S+ [a-qs-z]`,
		right: []string{`^runs 4664`}}, // with --secrets, what holds says yes or no about a secret
	{finding: "attack D1", file: "attack/cases/D1-html/run.sh",
		wrong: `chromium: dom [0-9]+ pwned|OWN SCRIPT|PANIC|BROKEN|RAW report`, right: []string{`^html report rc 0`}},
	{finding: "attack F1", script: `EXAMPLES="$SOURCE/examples" bash "$REVIEWS/attack/cases/F1-mutate/run.sh" 60 26`,
		wrong: `FOUND`, right: []string{`^runs [0-9]{3}`}},
	{finding: "attack G1", file: "attack/cases/G1-set/run.sh", wrong: `# tail'\]`, right: []string{`^runs 1568`}},
	{finding: "attack H1", file: "attack/cases/H1-resources/run.sh", wrong: `cpu [0-9]{2,}\.`,
		right: []string{`cel all\^3`, `re compile many`}},
	{finding: "attack I1", file: "attack/cases/I1-crash/run.sh", wrong: `^BROKEN [^c]`,
		right: []string{`^kill secrets`, `^caches 60`}}, // with --to there is no .gitattributes, which it calls broken
	{finding: "attack J1", file: "attack/cases/J1-names/run.sh", wrong: `-rf\.-rf|^North +rc=0|escapes from parent`,
		right: []string{`north and North are the same directory`, `schemas/kinds leads out of the project`}},
	{finding: "attack J2", file: "attack/cases/J2-ref-outside/run.sh", wrong: `CANARY`,
		right: []string{`outside of the project and of the directories on the command line`}},
	{finding: "attack J3", file: "attack/cases/J3-fifo/run.sh", wrong: `rc=124`, right: []string{`rc=1`}},
	{finding: "attack impact", file: "attack/cases/impact-input-broken-project-file/run.sh",
		right: []string{`impact --input: 2`, `diff: 2`}},
	{finding: "attack minor", script: `git init -q .; git config user.name x; git config user.email x@x.example; ` +
		oneFile + `echo 'document "a.yaml" = 1' > main.knot; git add .; git commit -qm x; "$KN" impact ^HEAD`,
		wrong: `was not there at`, right: []string{`impact: `}},

	// language.md
	{finding: "language F1", file: "language/cases/as-unchecked/run.sh", wrong: `"a": 7.5`,
		right: []string{`expected an int, found the float 7\.5`, `expected "live", found the string "loud"`}},
	{finding: "language F2", file: "language/cases/list-sum-empty/run.sh", wrong: `"half": 3,`,
		right: []string{`"total": 0\.0`, `"half": 3\.5`, `found a list \[string\]`}},
	{finding: "language F3", file: "language/cases/union-of-lists/run.sh", right: []string{`^0 errors`}},
	{finding: "language F4a", file: "language/cases/with-chain/run.sh", wrong: `user.*[0-9]m[1-9]`,
		right: []string{`(?s)(0 errors.*){2}`}},
	{finding: "language F4b", file: "language/cases/and-or-nested/run.sh", wrong: `user.*[0-9]m[1-9]`,
		right: []string{`(?s)(0 errors.*){4}`}},
	{finding: "language F5", file: "language/cases/fold-empty-list/run.sh", right: []string{`^0 errors`}},
	{finding: "language F6", file: "language/cases/yaml-directive/run.sh", right: []string{`^0 errors`}},
	{finding: "language F7", file: "language/cases/int-rounded/run.sh", wrong: `: 9007199254740992`,
		right: []string{`bad-number`}},
	{finding: "language F8", file: "language/cases/match-underscore/run.sh",
		right: []string{`else -> …`, `^1 error,`}},
	{finding: "language F8 two", file: "language/cases/swapped-arguments/run.sh",
		right: []string{`swapped`, `^1 error,`}},

	// rules.md
	{finding: "rules R1", file: "rules/cases/advice-swallows-requirement/run.sh", wrong: `^0 errors`,
		right: []string{`error: k/1\.yaml: runs as root`, `failures="1"`}},
	{finding: "rules R1 one", file: "rules/cases/advice-swallows-requirement-one-rule/run.sh", wrong: `^0 errors`,
		right: []string{`error: k/1\.yaml: runs as root`}},
	{finding: "rules R1 two", file: "rules/cases/two-rules-one-message/run.sh", right: []string{`rule ra`, `rule rb`}},
	{finding: "rules R2", file: "rules/cases/teller-layer-ignored/run.sh", wrong: `status 0|^0 errors`,
		right: []string{`net\.yaml:1:1: error`, `broken\.yaml:1:5: error`, `twice\.yaml:2:1: error`,
			`unknown\.yaml:1:1: error`}},
	{finding: "rules R7", file: "rules/cases/set-ignores-readers-and-parity/run.sh", wrong: `^--- `,
		right: []string{`\[limit\]`, `never 3`, `rule no4`, `\[parity\]`}},

	// systems.md
	{finding: "systems 1", file: "systems/cases/case-rename/run.sh", wrong: `removed|is missing`,
		right: []string{`files: M\.yaml`}},
	{finding: "systems 2", file: "systems/cases/windows-names/run.sh", wrong: `^0 errors`,
		right: []string{`(?s)(reserves the name.*){5}`}},
	{finding: "systems 3", file: "systems/cases/crlf-checkout/run.sh", wrong: `u\{d\}|was not written by`,
		right: []string{`check --rendered: status 0`, `render: status 0`}},
	{finding: "systems 6", script: `cd "$SOURCE" && GOARCH=386 go build -o /dev/null ./cmd/knothole; echo "rc=$?"`,
		wrong: `rc=0`, right: []string{`rc=1`}},
	{finding: "systems 9", file: "systems/cases/umask/run.sh", wrong: `^(644|666|664) `,
		right: []string{`^600 \./r\.html`}},
	{finding: "systems 10", file: "systems/cases/nfc-nfd/run.sh", right: []string{`^2 errors`, `status 1`}},
	{finding: "systems 11", file: "systems/cases/messages/run.sh", wrong: `it is not installed, but`,
		right: []string{`git is not installed`, `safe\.directory`}},
	{finding: "systems 13", script: `cd "$SOURCE" && GOOS=windows go vet ./...; echo "rc=$?"`, right: []string{`^rc=0`}},

	// words.md, performance.md
	{finding: "words A1.1", file: "words/cases/git-claim/run.sh", wrong: `fmt.*started [1-9]|report.*started [1-9]`,
		right: []string{`render: exit 0, git started 0 times`, `impact: exit 0, git started [1-9]`}},
	{finding: "words A1.4", file: "words/cases/diff-status/run.sh",
		right: []string{`check -> 1`, `diff a b -> 2`, `impact -> 2`, `why a x\.yaml r -> 1`, `render -> 1`}},
	{finding: "performance 1", script: "N=200\n" + fleet + `time "$KN" check; time "$KN" diff a b > out; ` +
		`echo "rc=$?"; grep -c 'domain' out`, wrong: `real.*[1-9]m|real.*0m[1-9]`,
		right: []string{`^0 errors`, `rc=1`, `^[0-9]+$`}},
}
