package secrets_test

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/demo"
	"knothole/outside/gate"
	"knothole/outside/secrets"
)

const word = "spring-tide-5521"

func source(t *testing.T) (*secrets.Source, string) {
	t.Helper()
	folder := t.TempDir()
	root, err := gate.OpenRoot(folder)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return &secrets.Source{Root: root}, folder
}

func read(s *secrets.Source, kind, target string) string {
	text, err := s.Read(&project.Reference{Kind: kind, Target: target})
	if err != nil {
		return "error: " + err.Error()
	}
	return string(text)
}

func TestVariables(t *testing.T) {
	s, _ := source(t)
	t.Setenv("KNOTHOLE_SECRET_PIN", word)
	t.Setenv("KNOTHOLE_SECRET_EMPTY", "")
	t.Setenv("DEPLOY_KEY", word)
	require.Equal(t, word, read(s, "variable", "KNOTHOLE_SECRET_PIN"))
	require.Equal(t, "error: the variable KNOTHOLE_SECRET_NOTHING is not set",
		read(s, "variable", "KNOTHOLE_SECRET_NOTHING"))
	require.Equal(t, "error: the variable KNOTHOLE_SECRET_EMPTY is empty", read(s, "variable", "KNOTHOLE_SECRET_EMPTY"))
	require.Contains(t, read(s, "variable", "DEPLOY_KEY"), "the variable DEPLOY_KEY may not be read")

	policy := filepath.Join(t.TempDir(), "policy.toml")
	require.NoError(t, os.WriteFile(policy, []byte("variables = [\"DEPLOY_*\"]\n"), 0o600))
	other, folder := source(t)
	var err error
	other.Policy, err = secrets.ReadPolicy(policy, folder)
	require.NoError(t, err)
	require.Equal(t, word, read(other, "variable", "DEPLOY_KEY"))
	require.Contains(t, read(other, "variable", "HOME"), "may not be read")
}

func TestFiles(t *testing.T) {
	s, folder := source(t)
	elsewhere := filepath.Join(t.TempDir(), "elsewhere")
	require.NoError(t, os.WriteFile(elsewhere, []byte(word), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a"), []byte(word), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "large"), bytes.Repeat([]byte("x"), 1<<20+1), 0o600))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(folder, "link")))
	require.Equal(t, word, read(s, "file", "a"))
	require.Equal(t, "error: there is no file b in the project", read(s, "file", "b"))
	require.Equal(t, "error: large is larger than 1024 KiB, which no secret is", read(s, "file", "large"))
	require.Contains(t, read(s, "file", "link"), "error: link cannot be read")
	require.Contains(t, read(s, "file", "."), "error: . cannot be read")
	for name, text := range map[string]string{"empty": "", "line": "\r\n", "mark": "\uFEFF\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
		require.Equal(t, "error: "+name+" is empty", read(s, "file", name))
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "marked"), []byte("\uFEFF"+word), 0o600))
	require.Equal(t, word, read(s, "file", "marked"), "without the byte order mark")
}

func TestAge(t *testing.T) {
	s, folder := source(t)
	mine, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	seal := func(name string, to age.Recipient, armoured bool, change func([]byte) []byte) {
		var b bytes.Buffer
		text := []byte(word)
		if armoured {
			a := armor.NewWriter(&b)
			w, err := age.Encrypt(a, to)
			require.NoError(t, err)
			_, err = w.Write(text)
			require.NoError(t, err)
			require.NoError(t, w.Close())
			require.NoError(t, a.Close())
		} else {
			w, err := age.Encrypt(&b, to)
			require.NoError(t, err)
			_, err = w.Write(text)
			require.NoError(t, err)
			require.NoError(t, w.Close())
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), change(b.Bytes()), 0o600))
	}
	same := func(b []byte) []byte { return b }
	seal("plain.age", mine.Recipient(), false, same)
	seal("armoured.age", mine.Recipient(), true, same)
	seal("other.age", other.Recipient(), false, same)
	seal("body.age", mine.Recipient(), false, func(b []byte) []byte { b[len(b)-1] ^= 1; return b })
	seal("head.age", mine.Recipient(), false, func(b []byte) []byte { return append(b[:40], "xx"...) })
	seal("cut.age", mine.Recipient(), false, func(b []byte) []byte { return b[:len(b)-3] })
	require.NoError(t, os.WriteFile(filepath.Join(folder, "text"), []byte(word), 0o600))

	require.Contains(t, read(s, "age", "plain.age"), "no identity is known to decrypt it with")
	again := func(identity string) *secrets.Source {
		return &secrets.Source{Root: s.Root, Identity: identity, IdentityName: "KNOTHOLE_IDENTITY"}
	}
	require.Contains(t, read(again(filepath.Join(folder, "nothing")), "age", "plain.age"),
		"cannot be read: no such file")
	require.Contains(t, read(again(filepath.Join(folder, "text")), "age", "plain.age"),
		"what KNOTHOLE_IDENTITY gives is not an identity of age")
	identity := filepath.Join(t.TempDir(), "identity")
	require.NoError(t, os.WriteFile(identity, []byte("# mine\n"+mine.String()+"\n"), 0o600))
	// The identity itself may be given, whole or broken, and is in no message.
	require.Equal(t, word, read(again(mine.String()), "age", "plain.age"))
	for _, wrong := range []string{mine.String()[:30], mine.String() + "x", "/run/" + mine.String(), other.String(),
		mine.String()[15:]} {
		message := read(again(wrong), "age", "plain.age")
		require.Contains(t, message, "error: ")
		require.NotContains(t, message, wrong)
	}
	s = again(identity)
	require.Equal(t, word, read(s, "age", "plain.age"))
	require.Equal(t, word, read(s, "age", "armoured.age"))
	require.Contains(t, read(s, "age", "other.age"), "is not encrypted for the identity of KNOTHOLE_IDENTITY")
	require.Equal(t, "error: body.age is damaged: its contents do not fit its head", read(s, "age", "body.age"))
	require.Equal(t, "error: cut.age is damaged: its contents do not fit its head", read(s, "age", "cut.age"))
	require.Equal(t, "error: head.age is damaged: its head cannot be read", read(s, "age", "head.age"))
	require.Equal(t, "error: text is not encrypted with age", read(s, "age", "text"))
	for _, name := range []string{"other.age", "body.age", "cut.age", "head.age", "text"} {
		require.NotContains(t, read(s, "age", name), word)
	}
}

func TestStore(t *testing.T) {
	s, folder := source(t)
	said := t.TempDir()
	store, err := demo.StartStore(said)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	asked := 0
	store.Answer = func(w http.ResponseWriter, r *http.Request) bool {
		asked++
		switch r.URL.Path {
		case "/slow":
			w.WriteHeader(http.StatusOK)
			w.(http.Flusher).Flush()
			fmt.Fprint(w, word)
			<-r.Context().Done()
		case "/redirect":
			http.Redirect(w, r, "https://elsewhere.example/?"+word, http.StatusFound)
		case "/broken":
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, word)
		case "/large":
			fmt.Fprint(w, strings.Repeat(word, 1<<17))
		case "/error":
			http.Error(w, word, http.StatusInternalServerError)
		default:
			return false
		}
		return true
	}
	s.Policy, err = secrets.ReadPolicy(store.Policy, folder)
	require.NoError(t, err)
	s.Timeout = time.Minute
	url := func(path string) string { return "https://" + demo.StoreHost + path }
	require.Contains(t, read(s, "url", url("/v1/north")), `"siren_pin"`)
	before := asked
	require.Contains(t, read(s, "url", url("/v1/north")), `"siren_pin"`)
	require.Equal(t, before, asked, "it is asked once")
	for path, want := range map[string]string{
		"/redirect": "redirects elsewhere, which is not followed",
		"/broken":   "cannot be reached, or broke off its answer",
		"/large":    "answers with more than 1024 KiB",
		"/error":    "answers 500 Internal Server Error",
		"/nothing":  "answers 404 Not Found",
	} {
		got := read(s, "url", url(path))
		require.Equal(t, "error: "+demo.StoreHost+" "+want, strings.TrimSuffix(got, ", which no secret is"))
	}
	// Who is not named by the policy is not asked, not even without a token.
	before = asked
	for _, target := range []string{
		"https://elsewhere.example/",
		"https://" + strings.Replace(demo.StoreHost, "s", "ſ", 1) + "/v1/north",
		"https://" + demo.StoreHost + ":444/v1/north",
	} {
		require.Contains(t, read(s, "url", target),
			"is not asked: only hosts that a file given with --secret-policy names are")
	}
	require.Contains(t, read(&secrets.Source{Root: s.Root}, "url", url("/v1/north")), "is not asked")
	require.Contains(t, read(s, "url", "https://me:"+word+"@"+demo.StoreHost+"/v1/north"), "error: a name or password")
	require.Equal(t, before, asked)
	impatient := &secrets.Source{Root: s.Root, Policy: s.Policy, Timeout: 300 * time.Millisecond}
	require.Equal(t, "error: "+demo.StoreHost+" did not answer in full within 300ms",
		read(impatient, "url", url("/slow")))

	// Another authority, no token, another name, nobody there, no TLS.
	policy, err := os.ReadFile(store.Policy)
	require.NoError(t, err)
	variant := func(change ...string) *secrets.Source {
		text := strings.NewReplacer(change...).Replace(string(policy))
		require.NotEqual(t, string(policy), text)
		name := filepath.Join(said, "variant.toml")
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		p, err := secrets.ReadPolicy(name, folder)
		require.NoError(t, err)
		return &secrets.Source{Root: s.Root, Policy: p, Timeout: time.Minute}
	}
	require.Contains(t, read(variant(`authority = "authority.pem"`, ""), "url", url("/v1/north")),
		"it is not signed by an authority that is trusted")
	require.Contains(t, read(variant(`token     = { file = "token.txt" }`, ""), "url", url("/v1/north")),
		"refuses to answer (403): the file that --secret-policy names says which token to send")
	require.NoError(t, os.WriteFile(filepath.Join(said, "wrong.txt"), []byte(word), 0o600))
	wrong := read(variant("token.txt", "wrong.txt"), "url", url("/v1/north"))
	require.Contains(t, wrong, "the token that the policy has for it is not accepted")
	require.NotContains(t, wrong, word)
	require.Contains(t, read(variant("token.txt", "nothing.txt"), "url", url("/v1/north")),
		"the token for store.floodwatch.example is missing")
	require.Contains(t, read(variant(`"`+demo.StoreHost+`"`, `"other.floodwatch.example"`), "url",
		"https://other.floodwatch.example/v1/north"), "it is for another host")
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed := listener.Addr().String()
	listener.Close()
	address := strings.Split(strings.SplitAfter(string(policy), "address   = \"")[1], `"`)[0]
	require.Contains(t, read(variant(address, closed), "url", url("/v1/north")), "refuses the connection")
	plain := http.Server{ReadHeaderTimeout: time.Second}
	listener, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = plain.Serve(listener) }()
	t.Cleanup(func() { plain.Close() })
	require.Contains(t, read(variant(address, listener.Addr().String()), "url", url("/v1/north")), "does not speak TLS")
	require.Contains(t, read(s, "url", "http://"+demo.StoreHost), "no URL that begins with https://")

	// A token goes to its host only.
	sent := ""
	store.Answer = func(w http.ResponseWriter, r *http.Request) bool {
		sent = r.Header.Get("Authorization")
		fmt.Fprint(w, "{}")
		return true
	}
	other := variant(`"`+demo.StoreHost+`"`, `"`+demo.StoreHost+`:8443"`, "token     =", "# token =")
	require.Contains(t, read(other, "url", "https://"+demo.StoreHost+":8443/x"), "{}")
	require.Empty(t, sent)
}

func TestPolicies(t *testing.T) {
	_, folder := source(t)
	outside := t.TempDir()
	try := func(text string) string {
		name := filepath.Join(outside, "policy.toml")
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		_, err := secrets.ReadPolicy(name, folder)
		if err == nil {
			return ""
		}
		return strings.ReplaceAll(err.Error(), name, "policy.toml")
	}
	require.Empty(t, try(""))
	require.Equal(t, `the secret policy policy.toml:1:1: there is no key "variabels": it has variables, and hosts with host, address, token and authority`, try(`variabels = []`))
	require.Contains(t, try(`variables = 5`), "the secret policy policy.toml:1:")
	require.Contains(t, try("[[hosts]]\nhost = \"https://x.example/\""),
		"a host is a name, with a port if it is not 443")
	require.Contains(t, try("[[hosts]]\nhost = \"x.example\"\ntoken = { variable = \"A\", file = \"b\" }"),
		"comes from a variable or a file, not from both")
	require.Contains(t, try("[[hosts]]\nhost = \"x.example\"\nauthority = \"nothing.pem\""),
		"nothing.pem cannot be read")
	require.Contains(t, try("[[hosts]]\nhost = \"x.example\"\nauthority = \"policy.toml\""),
		"holds no certificate (PEM)")
	inside := filepath.Join(folder, "policy.toml")
	require.NoError(t, os.WriteFile(inside, nil, 0o600))
	_, err := secrets.ReadPolicy(inside, folder)
	require.ErrorContains(t, err, "is part of the project")
	link := filepath.Join(outside, "link.toml")
	require.NoError(t, os.Symlink(inside, link))
	_, err = secrets.ReadPolicy(link, folder)
	require.ErrorContains(t, err, "is part of the project")
}
