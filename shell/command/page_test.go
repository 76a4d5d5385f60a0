package command_test

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"knothole/demo"
)

// reported writes the demo and makes a page of it.
func reported(t *testing.T, arguments ...string) (project, page string) {
	project, page = filepath.Join(t.TempDir(), "flood-watch"), filepath.Join(t.TempDir(), "page.html")
	require.NoError(t, demo.Write(project))
	run := exec.Command("knothole", append(arguments, "--to", page)...)
	run.Dir = project
	said, err := run.CombinedOutput()
	require.NoError(t, err, "%s", said)
	return project, page
}

// TestPage drives the page of a report in a browser: it filters, opens, follows links, and is printed whole.
func TestPage(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	b := openBrowser(t)
	_, page := reported(t, "report")
	b.call("Page.enable", nil)
	b.call("Network.enable", nil)
	b.open(page)
	shown := func(what string) float64 {
		n, _ := b.eval(`[...document.querySelectorAll("` + what + `")]
			.filter((e) => e.checkVisibility()).length`).(float64)
		return n
	}
	write := func(words string) {
		b.eval(`(() => { const w = document.getElementById("words"); w.value = ` + "`" + words + "`" + `;
			w.dispatchEvent(new Event("input")); })()`)
	}
	all := shown("#differences tbody tr")
	require.Greater(t, all, 30.0)
	b.picture("report-light")

	t.Run("filter", func(t *testing.T) {
		write("log_level")
		few := shown("#differences tbody tr")
		assert.Positive(t, few)
		assert.Less(t, few, all)
		assert.Contains(t, b.eval(`document.getElementById("said").textContent`), " rows")
		write("-log_level")
		assert.Equal(t, all-few, shown("#differences tbody tr"), "what is left out and what is found are all")
		write("nothing has this in it")
		assert.Zero(t, shown("#differences tbody tr, #documents tbody tr, #inputs tbody tr, .group"))
		write("")
		assert.Equal(t, all, shown("#differences tbody tr"))
	})
	t.Run("environments", func(t *testing.T) {
		b.eval(`document.querySelector("#sides input[value='0']").click()`)
		b.eval(`document.querySelector("#sides input[value='1']").click()`)
		two := shown("#differences tbody tr")
		assert.Positive(t, two)
		assert.Less(t, two, all)
		assert.Zero(t, shown("[data-side='0'], [data-side='1']"))
		assert.Empty(t, b.eval(`[...document.querySelectorAll("#differences tbody tr")]
			.filter((r) => r.checkVisibility() && r.cells[3].textContent === r.cells[4].textContent)
			.map((r) => r.textContent)`), "what the two have alike is shown")
		b.picture("report-two")
		b.eval(`document.querySelector("button[type=reset]").click()`)
		b.eval(`new Promise((done) => setTimeout(done, 50))`)
		assert.Equal(t, all, shown("#differences tbody tr"))
	})
	t.Run("causes", func(t *testing.T) {
		b.eval(`document.querySelector("[data-reason='0']").click()`)
		n := shown("#differences tbody tr")
		assert.Positive(t, n)
		assert.Less(t, n, all)
		b.eval(`document.querySelector("[data-reason='0']").click()`)
		assert.Equal(t, all, shown("#differences tbody tr"))
	})
	t.Run("links", func(t *testing.T) {
		b.eval(`document.getElementById("fold").click()`)
		assert.Zero(t, shown("#differences tbody tr"))
		write("nothing has this in it")
		b.eval(`document.querySelector("#documents tbody a").click()`)
		b.eval(`new Promise((done) => setTimeout(done, 50))`)
		assert.Equal(t, true, b.eval(`document.querySelector(location.hash).checkVisibility()
			&& document.querySelector(location.hash).open`), "a link opens what it leads to, whatever is filtered")
		b.eval(`document.getElementById("fold").click()`)
		dead := b.eval(`[...document.querySelectorAll("a[href]")].map((a) => a.getAttribute("href"))
			.filter((h) => h[0] !== "#" || !document.getElementById(decodeURIComponent(h.slice(1))))`)
		assert.Empty(t, dead, "links that lead nowhere")
	})
	t.Run("keyboard", func(t *testing.T) {
		b.eval(`document.activeElement.blur(), scrollTo(0, 0), document.querySelector("#words").focus()`)
		for _, letter := range "replicas" {
			b.press(string(letter), string(letter))
		}
		assert.Less(t, shown("#differences tbody tr"), all)
		reached := map[string]bool{}
		for range 60 {
			b.press("Tab", "")
			at, _ := b.eval(`document.activeElement.tagName + (document.activeElement.type || "")`).(string)
			reached[strings.ToLower(at)] = true
		}
		for _, element := range []string{"inputcheckbox", "buttonreset", "buttonbutton", "summary", "a", "div"} {
			assert.True(t, reached[element], "%s is not reached by Tab", element)
		}
		write("")
	})
	t.Run("readers", func(t *testing.T) {
		for what, wrong := range map[string]string{
			"an input without a label":       `input:not(label input)`,
			"a table head without a scope":   `th:not([scope])`,
			"a table without a row of heads": `table:not(:has(thead))`,
			"a region without a name":        `[role=region]:not([aria-label]):not([aria-labelledby])`,
		} {
			assert.Zero(t, b.eval(`document.querySelectorAll("`+wrong+`").length`), what)
		}
		assert.Equal(t, true, b.eval(`(() => { const ids = [...document.querySelectorAll("[id]")].map((e) => e.id);
			return new Set(ids).size === ids.length; })()`), "identifiers are alone")
	})
	t.Run("print", func(t *testing.T) {
		b.eval(`for (const g of document.querySelectorAll(".group")) g.open = false`)
		var printed struct{ Data string }
		b.into(&printed, "Page.printToPDF", nil)
		closed, err := base64.StdEncoding.DecodeString(printed.Data)
		require.NoError(t, err)
		b.eval(`for (const g of document.querySelectorAll(".group")) g.open = true`)
		b.into(&printed, "Page.printToPDF", nil)
		open, err := base64.StdEncoding.DecodeString(printed.Data)
		require.NoError(t, err)
		pages := func(pdf []byte) int { return bytes.Count(pdf, []byte("/Type /Page\n")) }
		assert.Equal(t, pages(open), pages(closed), "what is folded is printed too")
		assert.Greater(t, pages(open), 1)
		if folder := os.Getenv("KNOTHOLE_PICTURES"); folder != "" {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "report.pdf"), open, 0o644))
		}
	})
	t.Run("looks", func(t *testing.T) {
		b.media("", "dark")
		b.eval(`scrollTo(0, 0)`)
		b.picture("report-dark")
		b.eval(`document.getElementById("inputs").scrollIntoView()`)
		b.picture("report-dark-inputs")
		b.media("", "light")
		b.call("Emulation.setDeviceMetricsOverride",
			map[string]any{"width": 400, "height": 800, "deviceScaleFactor": 1, "mobile": false})
		b.eval(`scrollTo(0, 0)`)
		b.picture("report-narrow")
		assert.Equal(t, true, b.eval(`document.documentElement.scrollWidth <= innerWidth`), "a narrow page fits")
	})
	assert.Zero(t, b.eval(`performance.getEntriesByType("resource").length`), "the page fetches something")
}

// TestHostilePage checks that nothing in the data of a project is anything but text on its page: no element, no script,
// no attribute. Without it a value could show what is not so.
func TestHostilePage(t *testing.T) {
	project := t.TempDir()
	hostile := []string{`</script><script>hacked=1</script>`, `<img src=x onerror=hacked=1>`,
		`"><svg onload=hacked=1>`, `' onfocus=hacked=1 autofocus='`, `{{.Title}}`, `javascript:hacked=1`,
		"\u202e<b>\x1b[2J", `</code></td></tr></table>`}
	layers := [2]string{}
	for i := range layers {
		for j, text := range hostile {
			layers[i] += fmt.Sprintf("v%d: %q\n", j, text+strings.Repeat("x", i*200*(j%2)+i))
		}
	}
	keys := strings.NewReplacer(`\u202e`, `\u{202e}`, `\x1b`, `\u{1b}`)
	main := ""
	for j := range hostile {
		main += fmt.Sprintf("##\n## %s\ninput v%d: string\n", hostile[3], j)
	}
	main += "document \"a&b.yaml\" = {\n"
	for j, text := range hostile {
		key := keys.Replace(strconv.QuoteToASCII(text))
		main += fmt.Sprintf("  %s: v%d\n  k%d: \"<b>\\n${v%d}\\n\"\n", key, j, j, j)
	}
	main += "}\n"
	files := map[string]string{"main.knot": main, "a.yaml": layers[0], "b.yaml": layers[1],
		"knothole.toml": "[project]\nname = \"<script>hacked=1</script>\"\n" +
			"[environments.a]\nlayers = [\"a.yaml\"]\ntags = [\"<i>\"]\n[environments.b]\nlayers = [\"b.yaml\"]\n"}
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(project, name), []byte(text), 0o644))
	}
	run := exec.Command("knothole", "report")
	run.Dir = project
	run.Stderr = os.Stderr
	page, err := run.Output()
	require.NoError(t, err, "%s", findingsOf(page))
	known := map[string]bool{}
	for _, name := range strings.Fields("html head meta title link style body a header h1 ul li b form label input " +
		"fieldset legend button output main section h2 div span p table thead tbody tr th td code wbr details " +
		"summary h3 pre ol footer script article") {
		known[name] = true
	}
	scripts := 0
	tokens := html.NewTokenizer(bytes.NewReader(page))
	for tokens.Next() != html.ErrorToken {
		token := tokens.Token()
		if token.Type != html.StartTagToken && token.Type != html.SelfClosingTagToken {
			continue
		}
		assert.True(t, known[token.Data], "an element %s", token)
		if token.Data == "script" {
			scripts++
		}
		for _, attribute := range token.Attr {
			assert.False(t, strings.HasPrefix(attribute.Key, "on"), "%s", token)
			assert.NotEqual(t, "src", attribute.Key)
			assert.False(t, attribute.Key == "href" && !strings.HasPrefix(attribute.Val, "#") && token.Data != "link",
				"%s", token)
		}
	}
	assert.Equal(t, 1, scripts)
	assert.NotContains(t, string(page), "\u202e")
	assert.NotContains(t, string(page), "\x1b")
}

// findingsOf is the part of a page that says what is wrong.
func findingsOf(page []byte) string {
	_, after, _ := strings.Cut(string(page), `<section id="findings"`)
	before, _, _ := strings.Cut(after, "</section>")
	return before
}
