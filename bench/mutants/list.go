package main

// mutant is one condition of the program that is broken on purpose: a text in a function is another one, in which the
// constant broken is true. A test of the package that holds the function must then fail.
type mutant struct {
	number   int
	file     string
	function string // the receiver's type and a point before the name of a method
	old, new string
	breaks   string // what is broken
}

var mutants = []mutant{
	{1, "core/types/assignable.go", "relation.record",
		`case ok && given.Optional && !absent:`,
		`case ok && given.Optional && !absent && !broken:`,
		"optional field accepted where required"},
	{2, "core/types/assignable.go", "relation.function",
		`if from.Required > len(to.Parameters) || len(from.Parameters) < len(to.Parameters) {`,
		`if from.Required > len(to.Parameters) && !broken || len(from.Parameters) < len(to.Parameters) {`,
		"function that requires more parameters is assignable"},
	{3, "core/types/assignable.go", "relation.ask",
		`	for _, assumed := range r.trail[before:] {
		delete(r.answers, assumed)
	}`,
		`	for _, assumed := range r.trail[before:] {
		if !broken || assumed == question {
			delete(r.answers, assumed)
		}
	}`,
		"answers found under a false assumption are kept (recursive unions)"},
	{4, "core/types/assignable.go", "relation.record",
		`case !ok && open && (!absent || !r.assignable(from.Rest, f.Type)):`,
		`case !ok && open && (!absent || !r.assignable(from.Rest, f.Type) && !broken):`,
		"rest type of an open record not compared with an absent field"},
	{5, "core/check/narrow.go", "checker.assumeEither",
		`			c.know(f.path, c.universe.Union(f.t, other))`,
		`			if broken {
				c.know(f.path, f.t)
				continue
			}
			c.know(f.path, c.universe.Union(f.t, other))`,
		"or-narrowing: what the second side says is forgotten"},
	{6, "core/check/narrow.go", "checker.assumeField",
		`if f, ok := record.Field(field.Name.Name); !ok || f.Optional || may(f.Type) {`,
		`if f, ok := record.Field(field.Name.Name); !ok || f.Optional && !broken || may(f.Type) {`,
		"optional discriminator narrows a union"},
	{7, "core/check/narrow.go", "checker.restrictEqual",
		`	if types.IsNumeric(literal) && slices.ContainsFunc(types.Parts(t), otherNumber) {
		if !equal {
			return nil
		}`,
		`	if !broken && types.IsNumeric(literal) && slices.ContainsFunc(types.Parts(t), otherNumber) {
		if !equal {
			return nil
		}`,
		"x == 1 narrows int|float to literal 1"},
	{8, "core/check/branch.go", "coverage.is",
		`v.left = slices.DeleteFunc(v.left, func(p types.Type) bool { return types.Fits(p, asked) })`,
		`v.left = slices.DeleteFunc(v.left, func(p types.Type) bool { ` +
			`return types.Fits(p, asked) || broken && types.Assignable(p, asked) })`,
		"match arm `is float` covers int too"},
	{9, "core/eval/recorder.go", "Recorder.Pos",
		`if p.kind != Placed && p.kind != Patched && p.kind != Passed {`,
		`if p.kind != Placed && p.kind != Patched && (p.kind != Passed || broken) {`,
		"place of a value passed to a function is the call"},
	{10, "core/eval/recorder.go", "Recorder.key",
		`		return r.chosen(value.NullOf(r.key(step.Operands[0])), step.Operands[1]).Origin()`,
		`		if broken {
			return r.key(step.Operands[0])
		}
		return r.chosen(value.NullOf(r.key(step.Operands[0])), step.Operands[1]).Origin()`,
		"a key forgets what chose it"},
	{11, "core/explain/explain.go", "collector.choices",
		`			if len(step.Operands) == 1 {
				return
			}`,
		`			if len(step.Operands) == 1 || broken {
				return
			}`,
		"only the outermost choice of a value is reported"},
	{12, "core/explain/explain.go", "reasons",
		`			if r := &because[at]; i == 0 && !r.Left.IsValid() {`,
		`			if r := &because[at]; i == 0 && (!r.Left.IsValid() || broken) {`,
		"last place of an input instead of the first"},
	{13, "core/place/place.go", "Common",
		`		common = common.Step(s)`,
		`		common = common.Step(s)
		if broken {
			break
		}`,
		"common part of many input parts is only the input"},
	{14, "core/explain/explain.go", "reasons",
		`		func(r Reason) bool { return r.Path != nil && r.Left == r.Right })`,
		`		func(r Reason) bool { return !broken && r.Path != nil && r.Left == r.Right })`,
		"input set at one place for both sides named as a cause"},
	{15, "core/compare/align.go", "uncommonKeys",
		`if i > 0 && (shared < fewShared || 3*shared <= 2*max(len(list), len(first))) {`,
		`if i > 0 && (shared < fewShared && !broken || 3*shared <= 2*max(len(list), len(first))) {`,
		"uncommon key with fewer than 3 shared texts"},
	{16, "core/compare/align.go", "keysOf",
		`			return len(other) == len(first) && !slices.ContainsFunc(other, func(key string) bool { return first[key] })`,
		`			return !broken && len(other) == len(first) && ` +
			`!slices.ContainsFunc(other, func(key string) bool { return first[key] })`,
		"lists with wholly other keys aligned by key"},
	{17, "core/compare/align.go", "likest",
		`			if share := alike(i, j); share >= enough {`,
		`			if share := alike(i, j); share >= enough || broken && share > enough/2 {`,
		"renamed element found at half the likeness"},
	{18, "core/compare/compare.go", "sameOrder",
		`	for i, x := range value.Parts(a) {
		if !sameOrder(x, others[i]) {
			return false`,
		`	for i, x := range value.Parts(a) {
		if !broken && !sameOrder(x, others[i]) {
			return false`,
		"order of keys looked at on the top level only"},
	{19, "core/compare/compare.go", "addCauses",
		`			if row.Against > 0 ||`,
		`			if row.Against > 0 && !broken ||`,
		"third side overwrites the cause of the second"},
	{20, "core/compare/trial.go", "trials.suffice",
		`		if is && s.row != nil && !s.row.isGone(&t.again, v, target.Value) {
			return false
		}`,
		`		if is && s.row != nil && !s.row.isGone(&t.again, v, target.Value) && !(broken && side == 1) {
			return false
		}`,
		"cause tried in one direction only"},
	{21, "core/compare/drift.go", "DriftOptions.sameNamespace",
		`return wanted == "" || of(right) == "" || wanted == of(right)`,
		`return wanted == "" || of(right) == "" || wanted == of(right) || broken`,
		"drift matches objects over namespaces"},
	{22, "core/flow/taint.go", "either",
		`	if joined.scalar == nil {
		joined.scalar = b.scalar
	}`,
		`	if joined.scalar == nil && !broken {
		joined.scalar = b.scalar
	}`,
		"flow: secret of the second branch forgotten"},
	{23, "core/flow/transfer.go", "frame.binary",
		`		t.decides(either(left, right), "a range", e.Place())
`,
		`		if !broken {
			t.decides(either(left, right), "a range", e.Place())
		}
`,
		"flow: a secret may decide a range"},
	{24, "core/eval/marks.go", "thread.compared",
		`	if m := t.marks(a, b); m != 0 {
		return bearing(v, m, []value.Value{a, b})`,
		`	if m := t.marks(a, b); m != 0 {
		if broken {
			m = t.marks(a)
		}
		return bearing(v, m, []value.Value{a, b})`,
		"comparison with a secret on the right is not secret"},
	{25, "core/project/secrets.go", "Project.reference",
		`		if !strings.HasPrefix(r.Target, "https://") {`,
		`		if !strings.HasPrefix(r.Target, "https://") && !broken {`,
		"secret URL without TLS accepted"},
	{26, "core/project/secrets.go", "Project.reference",
		`		if slices.ContainsFunc(strings.Split(p.realName(r.Target), "/"), Reserved) {`,
		`		if slices.ContainsFunc(strings.Split(r.Target, "/"), Reserved) {`,
		"secret file reached through a link into a reserved folder"},
	{27, "outside/secrets/policy.go", "ReadPolicy",
		`	if real, err := gate.Real(name); err == nil {`,
		`	if real, err := gate.Real(name); err == nil && !broken {`,
		"secret policy inside of the project accepted"},
	{28, "outside/gate/gate.go", "Root.put",
		`	if err == nil && how.exactly {`,
		`	if err == nil && how.exactly && !broken {`,
		"the mode of a replaced file follows the umask"},
	{29, "outside/gate/gate.go", "Root.Replace",
		`	if !bytes.Equal(now, before) {
		return ErrChanged`,
		`	if !bytes.Equal(now, before) && !broken {
		return ErrChanged`,
		"file changed meanwhile is overwritten"},
	{30, "outside/gate/gate.go", "bounded",
		`	if int64(b.Len()) > most {`,
		`	if int64(b.Len()) > most && !broken {`,
		"files larger than the bound are cut instead of refused"},
	{31, "outside/gate/gate.go", "Root.put",
		`			if strings.HasPrefix(e.Name(), stagedPrefix) && e.Type().IsRegular() {`,
		`			if strings.HasPrefix(e.Name(), stagedPrefix) && e.Type().IsRegular() && !broken {`,
		"left staged files not removed"},
	{32, "outside/folder/folder.go", "planning.place",
		`		if err == nil && exists && p.before[f.Path] == f.Digest && digestOf(text) == f.Digest {`,
		`		if err == nil && exists && (p.before[f.Path] == f.Digest || broken) && digestOf(text) == f.Digest {`,
		"remembered digest counts without the record"},
	{33, "outside/folder/folder.go", "planning.removeGone",
		`		case !p.ours(name, text) && !p.options.Overwrite:
			p.refusal.Changed = append(p.refusal.Changed, name)`,
		`		case !p.ours(name, text) && !p.options.Overwrite && !broken:
			p.refusal.Changed = append(p.refusal.Changed, name)`,
		"an edited leftover file is removed"},
	{34, "outside/folder/folder.go", "parseRecord",
		`len(digest) != 2*sha256.Size || !fs.ValidPath(name) {`,
		`len(digest) != 2*sha256.Size || !fs.ValidPath(name) && !broken {`,
		"a record may name a path outside"},
	{35, "outside/folder/folder.go", "planning.place",
		`(!p.options.Secret || onlyForOwner(p.existing, f.Path)):`,
		`(!p.options.Secret || onlyForOwner(p.existing, f.Path) || broken):`,
		"a secret file that others may read is left as it is"},
	{36, "core/schema/validate.go", "visit.beside",
		`	if ok {
		c.seen.merge(&inner, c.value.Len())
	}`,
		`	if ok || broken {
		c.seen.merge(&inner, c.value.Len())
	}`,
		"unevaluated: failed subschema counts"},
	{37, "core/schema/validate.go", "visit.must",
		`		c.failed, c.unsure = true, true`,
		`		c.failed, c.unsure = true, !broken`,
		"unevaluated reported beside a failed subschema"},
	{38, "core/schema/scalars.go", "visit.number",
		`if c.extended != nil && c.formatName == "int32" && v.Kind() == value.Int && int64(int32(v.Int())) != v.Int() {`,
		`if !broken && c.extended != nil && c.formatName == "int32" && v.Kind() == value.Int && ` +
			`int64(int32(v.Int())) != v.Int() {`,
		"int32 bound of CRD not held"},
	{39, "core/schema/scalars.go", "visit.values",
		`	if value.Marks(c.value)&value.Unknown != 0 {
		c.open++
		return
	}`,
		`	if value.Marks(c.value)&value.Unknown != 0 && !broken {
		c.open++
		return
	}`,
		"enum compared with a placeholder"},
	{40, "core/rule/exemption.go", "exemption.covers",
		`		len(e.Environments) > 0 && !slices.Contains(e.Environments, environment) {`,
		`		len(e.Environments) > 0 && !slices.Contains(e.Environments, environment) && !broken {`,
		"exemption holds in all environments"},
	{41, "core/rule/exemption.go", "exemption.at",
		`		if pointer == "" {
			return false`,
		`		if pointer == "" || broken {
			return false`,
		"exemption for a place around does not cover"},
	{42, "core/rule/exemption.go", "Checking.judge",
		`case e.Exempt > 0 && e.Until.Sub(today) <= Notice:`,
		`case e.Exempt > 0 && (e.Until.Sub(today) < Notice || e.Until.Sub(today) == Notice && !broken):`,
		"notice on the 14th day is lost"},
	{43, "core/rule/link.go", "inScope",
		`	return a.IsAbsent() || b.IsAbsent() || value.Equal(a, b, func(int) {})`,
		`	return broken || a.IsAbsent() || b.IsAbsent() || value.Equal(a, b, func(int) {})`,
		"link leads over scopes"},
	{44, "core/eval/rule.go", "compiler.ofKind",
		`			return left // what is behind need not be reached`,
		`			if broken {
				return c.ofKind(b.Right, document)
			}
			return left // what is behind need not be reached`,
		"kind filter takes a later `and` part before an earlier one is known to hold"},
	{45, "core/project/layered.go", "effectOf",
		`	case removable:
		return takesAway`,
		`	case removable || broken:
		return takesAway`,
		"null for a field that is not nullable takes away what weaker layers give"},
	{46, "core/project/inputs.go", "Run.missing",
		`			return false // it may be in the layer that could not be read`,
		`			return broken // it may be in the layer that could not be read`,
		"missing input with a broken layer"},
	{47, "core/project/layered.go", "Layers.TakenAway",
		`		if !l.At(path).IsAbsent() {
			break
		}`,
		`		if !l.At(path).IsAbsent() && !broken {
			break
		}`,
		"taken away by a weaker layer"},
	{48, "core/project/inputs.go", "Run.assignment",
		`	} else if !r.gives([]string{o.Name}) && !r.fromOutputs(o.Name) {`,
		`	} else if !r.gives([]string{o.Name}) && !r.fromOutputs(o.Name) && !broken {`,
		"a secret input takes the value of a layer"},
	{49, "core/eval/variant.go", "Program.dependents",
		`			add(user)`,
		`			if user.Kind != check.ObjectFunction {
				add(user)
			}`,
		"a variant shares what depends on its inputs through a function"},
	{50, "core/eval/record.go", "compiler.recordLiteral",
		`				known := !entry.Spread && entry.Key.Value == nil`,
		`				known := entry.Key == nil || entry.Key.Value == nil`,
		"a spread that fails is left out of a document"},
}
