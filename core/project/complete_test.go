package project_test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
)

const completeModule = `
input camera: {
  ## How it is called.
  name: string
  fps: int = 10 where it in 1..30
  size: { wide: int = 640, high: int = 480 } = {}
  feed: { url: string, retry: int = 3, "back-off": float = 1.5 }
}
input days: int = 7
input title: string = "a: b # c"
input note: string? = null
output all = [camera.name, camera.fps, camera.size.wide, camera.size.high, camera.feed.url, camera.feed.retry, camera.feed."back-off", days, title, note]
`

// TestComplete checks that what is added as a comment is where it has to: with the marks of the comments taken
// away it gives each input its default.
func TestComplete(t *testing.T) {
	marks := map[string]*regexp.Regexp{
		"yaml": regexp.MustCompile(`(?m)^( *)# ( *["a-z-]+:( [^…\n]*)?)$`),
		"toml": regexp.MustCompile(`(?m)^( *)# ([a-z."-]+ = [^…\n]*)$`),
	}
	inner := regexp.MustCompile(`(?m)^( *)#(  *)# `) // comments in comments
	for name, c := range map[string]struct{ format, text string }{
		"nothing of it": {"yaml", "camera: { name: x, feed: { url: y } }\n"},
		"block":         {"yaml", "camera:\n  name: x\n  feed:\n    url: y\n"},
		"wide indent": {"yaml",
			"# Top.\ncamera:\n    feed:\n        url: y # the feed\n    name: x\n\n# End.\n"},
		"between others": {"yaml",
			"days: 7\ncamera:\n  name: x\n  feed:\n    url: y\n\n# The title.\ntitle: 'a: b # c'\n"},
		"some": {"yaml",
			"camera:\n  name: x\n  size:\n    wide: 640\n  feed:\n    url: y\n    retry: 3"},
		"tables": {"toml",
			"title = \"a: b # c\"\n\n# It.\n[camera]\nname = \"x\"\n\n[camera.feed]\nurl = \"y\"\n"},
		"points": {"toml", "camera.name = \"x\"\ncamera.feed.url = \"y\"\n"},
		"tables out of order": {"toml",
			"[camera.feed]\nurl = \"y\"\n[camera.size]\nhigh = 480\n[camera]\nname = \"x\""},
		"other line ends": {"yaml", "camera:\r\n  name: x\r\n  feed:\r\n    url: y\r\n"},
		"header first":    {"toml", "[camera]\nname = \"x\"\n[camera.feed]\nurl = \"y\"\n"},
		"inline":          {"toml", "[camera]\nname = \"x\"\nfeed = { url = \"y\" }\n"},
	} {
		t.Run(name, func(t *testing.T) {
			layer := "north." + c.format
			files := func(text string) map[string]string {
				return map[string]string{project.FileName: "[environments.north]\nlayers = [\"" + layer + "\"]\n",
					"main.knot": completeModule, layer: text}
			}
			complete := func(text string) string {
				p := load(t, files(text))
				e := p.Edit(p.Environment("north"), "")
				require.NoError(t, e.Complete())
				changed, wrong, err := e.Result()
				require.NoError(t, err)
				require.Empty(t, wrong)
				if after, ok := changed[layer]; ok {
					return after
				}
				return text
			}
			once := complete(c.text)
			require.NotEqual(t, c.text, once)
			require.Equal(t, once, complete(once), "it is done once")
			const want = `["x",10,640,480,"y",3,1.5,7,"a: b # c",null]`
			p := load(t, files(once))
			require.Equal(t, want, output(p.RunNamed("north"), "all"))

			require.NotRegexp(t, `^\s`, once)
			require.Equal(t, strings.Contains(c.text, "\r"), strings.Contains(once, "\r"))
			require.NotRegexp(t, `\r[^\n]|[^\r]\n.*\r`, once, "all lines end in the same way")
			once = strings.ReplaceAll(once, "\r", "")
			given := marks[c.format].ReplaceAllString(inner.ReplaceAllString(once, "$1$2# "), "$1$2")
			if name == "nothing of it" || name == "inline" {
				require.Contains(t, once, "# Optional fields of the records above, with their defaults:\n")
				return
			}
			require.NotEqual(t, once, given)
			p = load(t, files(given))
			require.Empty(t, p.CheckLayers(p.Runs(p.Environments)), given)
			require.Equal(t, want, output(p.RunNamed("north"), "all"), given)
			for _, in := range p.InputsOf(p.Unit().Module) {
				require.Equal(t, in.Name() != "note" || c.format == "yaml", p.RunNamed("north").Gives(in),
					"%s in\n%s", in.Name(), given)
			}
		})
	}
}
