package builtin

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"math/big"
	"net/netip"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/value"
)

var networkShape = value.NewShape([]string{"address", "prefix", "first", "last", "count"})

var netFunctions = []*Function{
	{Builtin: check.Builtin{Group: "net",
		Signature: "parse(cidr: string) -> { address: string, prefix: int, first: string, last: string, " +
			"count: int? }"},
		Description: "A network (RFC 4632, RFC 4291): the address as written, the length of the prefix, the first " +
			"and last address of the whole range and how many there are; null when an int cannot count them.",
		Example: `net.parse("192.0.2.17/28")`,
		Result:  `{"address":"192.0.2.17","prefix":28,"first":"192.0.2.16","last":"192.0.2.31","count":16}`,
		Errors:  "The string is not a network.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			p := network(c, a, 0)
			size := new(big.Int).Lsh(big.NewInt(1), uint(p.Addr().BitLen()-p.Bits()))
			count := value.NullOf(c.Origin())
			if size.IsInt64() {
				count = value.IntOf(size.Int64(), c.Origin())
			}
			return entry(c, networkShape, text(c, p.Addr().String()), number(c, p.Bits()),
				text(c, p.Masked().Addr().String()), text(c,
					offset(p, new(big.Int).Sub(size, big.NewInt(1))).String()), count)
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "subnet(cidr: string, prefix: int, index: int) -> string"},
		Description: "The network with a longer prefix that is at the index inside, counted from 0.",
		Example:     `net.subnet("198.51.100.0/24", 26, 2)`, Result: `"198.51.100.128/26"`,
		Errors: "The prefix is not longer, or there is no such subnet.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			p, bits, index := network(c, a, 0), a[1].Int(), a[2].Int()
			if bits < int64(p.Bits()) || bits > int64(p.Addr().BitLen()) {
				c.Fail(1, "", "a subnet of "+a[0].Show(50)+" cannot have a prefix of "+a[1].Show(20))
			}
			if index < 0 || bits-int64(p.Bits()) < 63 && index >= 1<<(bits-int64(p.Bits())) {
				c.Fail(2, "", a[0].Show(50)+" has no subnet "+a[2].Show(20)+" with this prefix")
			}
			at := new(big.Int).Lsh(big.NewInt(index), uint(int64(p.Addr().BitLen())-bits))
			return text(c, netip.PrefixFrom(offset(p, at), int(bits)).String())
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "address(cidr: string, index: int) -> string"},
		Description: "The address at the index of a network, counted from 0; negative ones count from the end.",
		Example:     `net.address("192.0.2.0/24", 10)`, Result: `"192.0.2.10"`, Errors: "The network has no such address.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			p := network(c, a, 0)
			size := new(big.Int).Lsh(big.NewInt(1), uint(p.Addr().BitLen()-p.Bits()))
			index := big.NewInt(a[1].Int())
			if index.Sign() < 0 {
				index.Add(index, size)
			}
			if index.Sign() < 0 || index.Cmp(size) >= 0 {
				c.Fail(1, "", a[0].Show(50)+" has no address "+a[1].Show(20))
			}
			return text(c, offset(p, index).String())
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "contains(cidr: string, inner: string) -> bool"},
		Description: "Whether an address, or all of a network, lies in a network.",
		Example:     `net.contains("192.0.2.0/24", "192.0.2.10")`, Result: `true`,
		Errors: "One of the strings is not a network or address.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			p := network(c, a, 0)
			if inner, err := netip.ParseAddr(a[1].Text()); err == nil {
				return truth(c, p.Masked().Contains(inner))
			}
			inner := network(c, a, 1)
			return truth(c, p.Bits() <= inner.Bits() && p.Masked().Contains(inner.Addr()))
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "overlaps(a: string, b: string) -> bool"},
		Description: "Whether two networks have an address in common.",
		Example:     `net.overlaps("192.0.2.0/24", "192.0.2.128/25")`, Result: `true`,
		Errors: "One of the strings is not a network.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			return truth(c, network(c, a, 0).Overlaps(network(c, a, 1)))
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "sort(xs: [string]) -> [string]"},
		Description: "Addresses and networks by their numbers, IPv4 before IPv6; of networks that begin alike the " +
			"larger first.",
		Example: `net.sort(["203.0.113.128", "203.0.113.16"])`, Result: `["203.0.113.16","203.0.113.128"]`,
		Errors: "One of the strings is not a network or address.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			order := make([]int, a[0].Len())
			prefixes := prefixesOf(c, a)
			for i := range order {
				order[i] = i
			}
			slices.SortStableFunc(order, func(i, j int) int { return comparePrefixes(prefixes[i], prefixes[j]) })
			sorted := make([]value.Value, len(order))
			for i, at := range order {
				sorted[i] = a[0].Elements()[at]
			}
			return list(c, sorted)
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "merge(xs: [string]) -> [string]"},
		Description: "The fewest networks that hold exactly the addresses of these networks and addresses, in their " +
			"order.",
		Example: `net.merge(["192.0.2.0/25", "192.0.2.128/25", "192.0.2.7"])`, Result: `["192.0.2.0/24"]`,
		Errors: "One of the strings is not a network or address.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			merged := mergePrefixes(prefixesOf(c, a))
			networks := make([]string, len(merged))
			for i, p := range merged {
				networks[i] = p.String()
			}
			return texts(c, networks)
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "is_address(s: string) -> bool"},
		Description: "Whether the string is an IPv4 or IPv6 address.",
		Example:     `net.is_address("2001:db8::1")`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			address, err := netip.ParseAddr(a[0].Text())
			return truth(c, err == nil && address.Zone() == "")
		}},
	{Builtin: check.Builtin{Group: "net", Signature: "is_hostname(s: string) -> bool"},
		Description: "Whether the string is a host name: labels of letters, digits and inner hyphens (RFC 1123 " +
			"section 2.1).",
		Example: `net.is_hostname("map.floodwatch.example")`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value { return truth(c, isHostname(a[0].Text())) }},
}

// network reads an argument as a network.
func network(c *eval.Call, a []value.Value, i int) netip.Prefix {
	p, err := netip.ParsePrefix(a[i].Text())
	if err != nil {
		c.Fail(i, "such as 192.0.2.0/24 or 2001:db8::/32", a[i].Show(50)+" is not a network")
	}
	return p
}

// offset returns the address that lies so far after the first of a network; it must lie inside.
func offset(p netip.Prefix, by *big.Int) netip.Addr {
	first := p.Masked().Addr()
	if first.Is4() {
		b := first.As4()
		var sum [4]byte
		binary.BigEndian.PutUint32(sum[:], binary.BigEndian.Uint32(b[:])+uint32(by.Uint64()))
		return netip.AddrFrom4(sum)
	}
	b := first.As16()
	var sum [16]byte
	new(big.Int).Add(new(big.Int).SetBytes(b[:]), by).FillBytes(sum[:])
	return netip.AddrFrom16(sum)
}

func isHostname(s string) bool {
	if len(s) == 0 || len(s) > 253 {
		return false
	}
	for label := range strings.SplitSeq(s, ".") {
		if len(label) == 0 || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for i := 0; i < len(label); i++ {
			if c := label[i]; !(c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z') {
				return false
			}
		}
	}
	return true
}

var versionShape = value.NewShape([]string{"major", "minor", "patch", "prerelease", "build"})

var versionFunctions = []*Function{
	{Builtin: check.Builtin{Group: "version",
		Signature: "parse(s: string) -> { major: int, minor: int, patch: int, prerelease: string, " +
			"build: string }"}, Description: "The parts of a version (semantic versioning 2.0.0).",
		Example: `version.parse("4.2.0-rc.1+x5")`,
		Result:  `{"major":4,"minor":2,"patch":0,"prerelease":"rc.1","build":"x5"}`,
		Errors:  "The string is not a version.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			v := version(c, a, 0)
			for _, n := range []uint64{v.Major(), v.Minor(), v.Patch()} {
				if n > math.MaxInt64 {
					c.Fail(0, "", "a number of "+a[0].Show(60)+" does not fit into an int of 64 bits")
				}
			}
			return entry(c, versionShape, value.IntOf(int64(v.Major()), c.Origin()),
				value.IntOf(int64(v.Minor()), c.Origin()), value.IntOf(int64(v.Patch()), c.Origin()),
				text(c, v.Prerelease()), text(c, v.Metadata()))
		}},
	{Builtin: check.Builtin{Group: "version", Signature: "compare(a: string, b: string) -> int"},
		Description: "-1, 0 or 1: a is before, equal to or after b (semantic versioning 2.0.0 section 11).",
		Example:     `version.compare("1.10.0", "1.9.3")`, Result: `1`, Errors: "One of the strings is not a version.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			return number(c, compareVersions(version(c, a, 0), version(c, a, 1)))
		}},
	{Builtin: check.Builtin{Group: "version", Signature: "satisfies(v: string, range: string) -> bool"},
		Description: "Whether a version meets all conditions of a range. They are separated by spaces; each is one " +
			"of = != < <= > >= and a version, compared as version.compare does. Numbers that it leaves out are 0: <2 " +
			"is <2.0.0. So 2.0.0-rc.1, which comes before 2.0.0, meets <2.",
		Example: `version.satisfies("1.4.2", ">=1.2 <2")`, Result: `true`,
		Errors: "The string is not a version, or the range is invalid.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			v, all, conditions := version(c, a, 0), true, strings.Fields(a[1].Text())
			for _, condition := range conditions {
				meets, ok := meetsCondition(v, condition)
				if !ok {
					c.Fail(1, "conditions such as >=1.2 <2: one of = != < <= > >= directly before a version",
						fmt.Sprintf("%q of %s is not a condition on versions", condition, a[1].Show(40)))
				}
				all = all && meets
			}
			if len(conditions) == 0 {
				c.Fail(1, "conditions such as >=1.2 <2", "the range of versions is empty")
			}
			return truth(c, all)
		}},
}

// version reads an argument as a version in full.
func version(c *eval.Call, a []value.Value, i int) *semver.Version {
	v, err := semver.StrictNewVersion(a[i].Text())
	if err != nil {
		c.Fail(i, "three numbers, such as 4.2.0", a[i].Show(40)+" is not a version")
	}
	return v
}

// compareVersions orders versions by their precedence (semantic versioning 2.0.0 section 11). Numbers in prereleases
// may have any number of digits, which the library does not know.
func compareVersions(a, b *semver.Version) int {
	order := cmp.Or(cmp.Compare(a.Major(), b.Major()), cmp.Compare(a.Minor(), b.Minor()),
		cmp.Compare(a.Patch(), b.Patch()))
	if order != 0 || a.Prerelease() == b.Prerelease() {
		return order
	}
	if a.Prerelease() == "" || b.Prerelease() == "" { // a release comes after its prereleases
		return cmp.Compare(b.Prerelease(), a.Prerelease())
	}
	return slices.CompareFunc(strings.Split(a.Prerelease(), "."), strings.Split(b.Prerelease(), "."),
		compareIdentifiers)
}

// compareIdentifiers orders parts of prereleases: numbers by their size and before names. They have no leading zeros.
func compareIdentifiers(a, b string) int {
	number := func(s string) bool { return strings.Trim(s, "0123456789") == "" }
	switch {
	case number(a) && number(b):
		return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b))
	case number(a):
		return -1
	case number(b):
		return 1
	}
	return cmp.Compare(a, b)
}

// meetsCondition reports whether a version meets a condition such as >=1.2, and whether that is one.
func meetsCondition(v *semver.Version, condition string) (meets, ok bool) {
	bound := strings.TrimLeft(condition, "=!<>")
	operator := strings.TrimSuffix(condition, bound)
	if !strings.ContainsAny(bound, "-+") {
		bound += strings.Repeat(".0", max(0, 2-strings.Count(bound, ".")))
	}
	limit, err := semver.StrictNewVersion(bound)
	if err != nil {
		return false, false
	}
	order := compareVersions(v, limit)
	switch operator {
	case "=":
		return order == 0, true
	case "!=":
		return order != 0, true
	case "<":
		return order < 0, true
	case "<=":
		return order <= 0, true
	case ">":
		return order > 0, true
	case ">=":
		return order >= 0, true
	}
	return false, false
}

// prefixesOf reads the elements of a list as networks, addresses as those that hold nothing else.
func prefixesOf(c *eval.Call, a []value.Value) []netip.Prefix {
	prefixes := make([]netip.Prefix, a[0].Len())
	for i, x := range a[0].Elements() {
		c.Spend(8 + len(x.Text()))
		if address, err := netip.ParseAddr(x.Text()); err == nil && address.Zone() == "" {
			prefixes[i] = netip.PrefixFrom(address, address.BitLen())
			continue
		}
		p, err := netip.ParsePrefix(x.Text())
		if err != nil {
			c.Fail(0, "such as 192.0.2.0/24 or 192.0.2.10", x.Show(40)+" is not a network or address")
		}
		prefixes[i] = p
	}
	return prefixes
}

// comparePrefixes orders networks by their first address, the larger first.
func comparePrefixes(a, b netip.Prefix) int {
	return cmp.Or(cmp.Compare(a.Addr().BitLen(), b.Addr().BitLen()), a.Addr().Compare(b.Addr()),
		cmp.Compare(a.Bits(), b.Bits()))
}

// mergePrefixes returns the fewest networks that hold exactly the same addresses.
func mergePrefixes(prefixes []netip.Prefix) []netip.Prefix {
	sorted := make([]netip.Prefix, len(prefixes))
	for i, p := range prefixes {
		sorted[i] = p.Masked()
	}
	slices.SortFunc(sorted, comparePrefixes)
	var merged []netip.Prefix
	for _, p := range sorted {
		if n := len(merged); n > 0 && merged[n-1].Overlaps(p) { // it lies inside: larger ones come first
			continue
		}
		merged = append(merged, p)
		for n := len(merged); n > 1; n = len(merged) { // two halves are one whole
			a, b := merged[n-2], merged[n-1]
			if a.Bits() != b.Bits() || a.Bits() == 0 || a.Addr().BitLen() != b.Addr().BitLen() {
				break
			}
			whole := netip.PrefixFrom(a.Addr(), a.Bits()-1).Masked()
			if whole.Addr() != a.Addr() || !whole.Contains(b.Addr()) {
				break
			}
			merged = append(merged[:n-2], whole)
		}
	}
	return merged
}
