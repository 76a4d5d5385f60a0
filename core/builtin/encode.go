package builtin

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/base64"
	"encoding/hex"
	"hash/crc32"
	"strings"
	"unicode/utf8"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/value"
)

var encodeFunctions = []*Function{
	{Builtin: check.Builtin{Group: "encode", Handling: check.Joins,
		Signature: "json(x: any, indent: int = 0) -> string"},
		Description: "The value as JSON (RFC 8259): without white space, or indented by indent spaces for each level.",
		Example:     `encode.json({ a: [1, "é"] })`, Result: `"{\"a\":[1,\"é\"]}"`,
		Errors: "The indentation is not between 0 and 16.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			if a[1].Int() < 0 || a[1].Int() > 16 {
				c.Fail(1, "", "an indentation lies between 0 and 16")
			}
			checkData(c, a[0], data.JSON)
			return text(c, data.JSONText(a[0], int(a[1].Int())))
		}},
	{Builtin: check.Builtin{Group: "encode", Handling: check.Joins, Signature: "yaml(x: any) -> string"},
		Description: "The value as YAML, as documents are written.",
		Example:     `encode.yaml({ a: "no" })`, Result: `"a: \"no\"\n"`, call: encoded(data.YAML)},
	{Builtin: check.Builtin{Group: "encode", Handling: check.Joins, Signature: "toml(x: any) -> string"},
		Description: "The record as TOML, as documents are written.",
		Example:     `encode.toml({ a: { b: 1 } })`, Result: `"[a]\nb = 1\n"`,
		Errors: "It is not a record, or holds null.", call: encoded(data.TOML)},
	{Builtin: check.Builtin{Group: "encode", Handling: check.Joins,
		Signature: "env(r: { *: string | int | float | bool }) -> string"},
		Description: "The record as an env file, as documents are written.",
		Example:     `encode.env({ A: "x y" })`, Result: `"A='x y'\n"`, Errors: "A key is not a valid variable name.",
		call: encoded(data.Env)},
	{Builtin: check.Builtin{Group: "encode", Signature: "base64(s: string) -> string"},
		Description: "The bytes of the string in base64 (RFC 4648 section 4).",
		Example:     `encode.base64("tide")`, Result: `"dGlkZQ=="`,
		call: textual(func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) })},
	{Builtin: check.Builtin{Group: "encode", Signature: "base64url(s: string) -> string"},
		Description: "The bytes of the string in base64url (RFC 4648 section 5), without padding.",
		Example:     `encode.base64url("tide?>")`, Result: `"dGlkZT8-"`,
		call: textual(func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) })},
	{Builtin: check.Builtin{Group: "encode", Signature: "hex(s: string) -> string"},
		Description: "The bytes of the string in hexadecimal digits.",
		Example:     `encode.hex("ebb")`, Result: `"656262"`,
		call: textual(func(s string) string { return hex.EncodeToString([]byte(s)) })},
	{Builtin: check.Builtin{Group: "encode", Signature: "url(s: string) -> string"},
		Description: "The string as part of an address: all but unreserved characters are percent-encoded (RFC 3986 " +
			"section 2).",
		Example: `encode.url("high tide/é")`, Result: `"high%20tide%2F%C3%A9"`, call: textual(percent)},
}

// checkData fails when a format cannot hold a value, or the value is too large or deep.
func checkData(c *eval.Call, v value.Value, format data.Format) {
	for _, problem := range data.Check(v, format) {
		c.Fail(0, problem.Help, problem.Message)
	}
}

func encoded(format data.Format) eval.Native {
	return func(c *eval.Call, a []value.Value) value.Value {
		checkData(c, a[0], format)
		written, err := data.Write(a[0], format)
		if err != nil {
			c.Fail(0, "", err.Error())
		}
		return text(c, string(written))
	}
}

// percent encodes all but the unreserved characters of RFC 3986 section 2.3.
func percent(s string) string {
	const digits = "0123456789ABCDEF"
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte("-._~", c) >= 0 {
			b.WriteByte(c)
			continue
		}
		b.WriteString("%" + string(digits[c>>4]) + string(digits[c&15]))
	}
	return b.String()
}

var decodeFunctions = []*Function{
	{Builtin: check.Builtin{Group: "decode",
		Signature: "json(s: string) -> any"}, Description: "The data that a JSON text holds.",
		Example: `decode.json('{"a":1}')`, Result: `{"a":1}`, Errors: "The string is not JSON.",
		call: decoded(data.JSON)},
	{Builtin: check.Builtin{Group: "decode", Signature: "yaml(s: string) -> any"},
		Description: "The data that a YAML text of one document holds.",
		Example:     `decode.yaml("a: [1, no]")`, Result: `{"a":[1,"no"]}`, Errors: "The string is not YAML.",
		call: decoded(data.YAML)},
	{Builtin: check.Builtin{Group: "decode",
		Signature: "toml(s: string) -> any"}, Description: "The data that a TOML text holds.",
		Example: `decode.toml("a.b = 1")`, Result: `{"a":{"b":1}}`, Errors: "The string is not TOML.",
		call: decoded(data.TOML)},
	{Builtin: check.Builtin{Group: "decode", Signature: "base64(s: string) -> string"},
		Description: "The string that base64 (RFC 4648 section 4) encodes.",
		Example:     `decode.base64("dGlkZQ==")`, Result: `"tide"`,
		Errors: "It is not base64, or not of a string in UTF-8.",
		call:   fromBytes("base64", base64.StdEncoding.Strict().DecodeString)},
	{Builtin: check.Builtin{Group: "decode", Signature: "base64url(s: string) -> string"},
		Description: "The string that base64url (RFC 4648 section 5) without padding encodes.",
		Example:     `decode.base64url("dGlkZT8-")`, Result: `"tide?>"`,
		Errors: "It is not base64url, or not of a string in UTF-8.",
		call:   fromBytes("base64url", base64.RawURLEncoding.Strict().DecodeString)},
	{Builtin: check.Builtin{Group: "decode", Signature: "hex(s: string) -> string"},
		Description: "The string that hexadecimal digits encode.",
		Example:     `decode.hex("656262")`, Result: `"ebb"`, Errors: "It is not hexadecimal, or not of a string in UTF-8.",
		call: fromBytes("hexadecimal", hex.DecodeString)},
}

// decoded reads data out of a text. What it finds came from the call, as far as the user's files go.
func decoded(format data.Format) eval.Native {
	return func(c *eval.Call, a []value.Value) value.Value {
		set := source.NewSet()
		file, err := set.Add("text", []byte(a[0].Text()))
		if err != nil {
			c.Fail(0, "", err.Error())
		}
		c.Spend(4 * len(a[0].Text()))
		v, findings := data.Read(file, format, nil)
		if len(findings) > 0 {
			l := set.Locate(findings[0].Span.Start)
			c.Fail(0, findings[0].Help,
				findings[0].Message+" (line "+value.IntOf(int64(l.Line),
					0).Show(20)+", column "+value.IntOf(int64(l.Column), 0).Show(20)+" of the string)")
		}
		if v.IsAbsent() {
			return value.NullOf(c.Origin())
		}
		return eval.Originate(v, c.Origin())
	}
}

func fromBytes(what string, decode func(string) ([]byte, error)) eval.Native {
	return func(c *eval.Call, a []value.Value) value.Value {
		b, err := decode(a[0].Text())
		switch {
		case err != nil:
			c.Fail(0, "", a[0].Show(40)+" is not "+what)
		case !utf8.Valid(b):
			c.Fail(0, "only strings can be values", "the value that "+a[0].Show(40)+" encodes is not a string in UTF-8")
		}
		return text(c, string(b))
	}
}

var hashFunctions = []*Function{
	{Builtin: check.Builtin{Group: "hash", Signature: "sha256(s: string) -> string"},
		Description: "The SHA-256 of the string in hexadecimal digits.",
		Example:     `hash.sha256("ebb")`, Result: `"79571a56229fead48072831402cf3d9c05d9663c177d30e9468fba9ce05fd56e"`,
		call: textual(func(s string) string {
			sum := sha256.Sum256([]byte(s))
			return hex.EncodeToString(sum[:])
		})},
	{Builtin: check.Builtin{Group: "hash",
		Signature: "crc32(s: string) -> int"}, Description: "The CRC-32 of the string (IEEE 802.3).",
		Example: `hash.crc32("ebb")`, Result: `1160436104`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			c.Spend(len(a[0].Text()))
			return value.IntOf(int64(crc32.ChecksumIEEE([]byte(a[0].Text()))), c.Origin())
		}},
	{Builtin: check.Builtin{Group: "hash", Signature: "short(seed: string, length: int = 8) -> string"},
		Description: "A short name made from the string: its SHA-256 in lower-case base32 (RFC 4648 section 6), " +
			"`length` characters; it begins with a letter.",
		Example: `hash.short("bay-map")`, Result: `"rt4qabqs"`, Errors: "The length is not between 1 and 52.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			n := a[1].Int()
			if n < 1 || n > 52 {
				c.Fail(1, "", "a length lies between 1 and 52, not "+a[1].Show(20))
			}
			sum := sha256.Sum256([]byte(a[0].Text()))
			name := []byte(strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(sum[:])))
			if name[0] >= '2' && name[0] <= '7' {
				name[0] = 'g' + name[0] - '2'
			}
			return text(c, string(name[:n]))
		}},
}

var pathFunctions = []*Function{
	{Builtin: check.Builtin{Group: "path",
		Signature: "base(p: string) -> string"}, Description: "The part after the last slash.",
		Example: `path.base("k8s/bay-map.yaml")`, Result: `"bay-map.yaml"`,
		call: textual(func(p string) string { return p[strings.LastIndexByte(p, '/')+1:] })},
	{Builtin: check.Builtin{Group: "path", Signature: "dir(p: string) -> string"},
		Description: "The part before the last slash; empty when there is none.",
		Example:     `path.dir("k8s/bay-map.yaml")`, Result: `"k8s"`,
		call: textual(func(p string) string { return p[:max(0, strings.LastIndexByte(p, '/'))] })},
	{Builtin: check.Builtin{Group: "path", Signature: "ext(p: string) -> string"},
		Description: "The file extension of the last part, with its dot; a leading dot does not begin one.",
		Example:     `path.ext("k8s/bay-map.yaml")`, Result: `".yaml"`, call: textual(func(p string) string {
			base := p[strings.LastIndexByte(p, '/')+1:]
			if dot := strings.LastIndexByte(base, '.'); dot > 0 {
				return base[dot:]
			}
			return ""
		})},
	{Builtin: check.Builtin{Group: "path", Handling: check.Joins, Signature: "join(parts: [string]) -> string"},
		Description: "The parts with one slash between them; empty ones are left out.",
		Example:     `path.join(["k8s", "", "bay-map.yaml"])`, Result: `"k8s/bay-map.yaml"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			joined := ""
			for _, x := range a[0].Elements() {
				part := x.Text()
				c.Spend(1 + len(part) + len(joined))
				switch {
				case part == "":
				case joined == "":
					joined = part
				default:
					joined = strings.TrimSuffix(joined, "/") + "/" + strings.TrimPrefix(part, "/")
				}
			}
			return value.StringOf(joined, c.Origin())
		}},
}
