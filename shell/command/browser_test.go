package command_test

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// browser is a headless browser with one page, driven through its own protocol over two pipes.
type browser struct {
	t       *testing.T
	to      *os.File
	from    *bufio.Reader
	session string
	last    atomic.Int64
}

// browserNames are what the program is called that is driven.
var browserNames = []string{"chromium", "chromium-browser", "google-chrome"}

// openBrowser starts a browser. Where there is none the test is skipped, unless KNOTHOLE_BROWSER says that there is
// one.
func openBrowser(t *testing.T) *browser {
	program := ""
	for _, name := range browserNames {
		if found, err := exec.LookPath(name); err == nil {
			program = found
			break
		}
	}
	if program == "" {
		require.Empty(t, os.Getenv("KNOTHOLE_BROWSER"), "there is no browser to drive pages with")
		t.Skip("there is no chromium here: pages are not driven")
	}
	in, to, err := os.Pipe()
	require.NoError(t, err)
	from, out, err := os.Pipe()
	require.NoError(t, err)
	run := exec.Command(program, "--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage",
		"--no-first-run", "--user-data-dir="+t.TempDir(), "--remote-debugging-pipe", "--window-size=1280,800")
	run.ExtraFiles = []*os.File{in, out} // 3, which it reads, and 4, which it writes
	require.NoError(t, run.Start())
	require.NoError(t, in.Close())
	require.NoError(t, out.Close())
	require.NoError(t, from.SetReadDeadline(time.Now().Add(2*time.Minute)))
	b := &browser{t: t, to: to, from: bufio.NewReaderSize(from, 1<<20)}
	t.Cleanup(func() {
		b.call("Browser.close", nil)
		_ = run.Wait()
	})
	var target struct{ TargetID string }
	b.into(&target, "Target.createTarget", map[string]any{"url": "about:blank"})
	var attached struct{ SessionID string }
	b.into(&attached, "Target.attachToTarget", map[string]any{"targetId": target.TargetID, "flatten": true})
	b.session = attached.SessionID
	return b
}

// call calls a method of the protocol and returns its answer.
func (b *browser) call(method string, parameters map[string]any) json.RawMessage {
	id := b.last.Add(1)
	message := map[string]any{"id": id, "method": method, "params": parameters}
	if parameters == nil {
		message["params"] = map[string]any{}
	}
	if b.session != "" && method != "Browser.close" {
		message["sessionId"] = b.session
	}
	text, err := json.Marshal(message)
	require.NoError(b.t, err)
	_, err = b.to.Write(append(text, 0))
	require.NoError(b.t, err)
	for {
		text, err := b.from.ReadBytes(0)
		require.NoError(b.t, err, "the browser does not answer %s", method)
		var answer struct {
			ID     int64
			Result json.RawMessage
			Error  json.RawMessage
		}
		require.NoError(b.t, json.Unmarshal(text[:len(text)-1], &answer))
		if answer.ID == id {
			require.Empty(b.t, string(answer.Error), method)
			return answer.Result
		}
	}
}

func (b *browser) into(result any, method string, parameters map[string]any) {
	require.NoError(b.t, json.Unmarshal(b.call(method, parameters), result))
}

// open shows a file, until its script has run.
func (b *browser) open(file string) {
	b.call("Page.navigate", map[string]any{"url": "file://" + filepath.ToSlash(file)})
	for b.eval(`document.readyState === "complete" && location.protocol === "file:"`) != true {
		time.Sleep(10 * time.Millisecond)
	}
}

// eval evaluates an expression of the page's language.
func (b *browser) eval(expression string) any {
	var answer struct {
		Result           struct{ Value any }
		ExceptionDetails json.RawMessage
	}
	b.into(&answer, "Runtime.evaluate",
		map[string]any{"expression": expression, "returnByValue": true, "awaitPromise": true})
	require.Empty(b.t, string(answer.ExceptionDetails), expression)
	return answer.Result.Value
}

// press presses a key, with the text that it writes.
func (b *browser) press(key, text string) {
	codes := map[string]int{"Tab": 9, "Enter": 13, " ": 32}
	for _, kind := range []string{"keyDown", "keyUp"} {
		b.call("Input.dispatchKeyEvent", map[string]any{"type": kind, "key": key, "text": text,
			"windowsVirtualKeyCode": codes[key]})
	}
}

// picture keeps a picture of what is shown, where KNOTHOLE_PICTURES names a directory for them.
func (b *browser) picture(name string) {
	folder := os.Getenv("KNOTHOLE_PICTURES")
	if folder == "" {
		return
	}
	var shot struct{ Data string }
	b.into(&shot, "Page.captureScreenshot", nil)
	data, err := base64.StdEncoding.DecodeString(shot.Data)
	require.NoError(b.t, err)
	require.NoError(b.t, os.WriteFile(filepath.Join(folder, name+".png"), data, 0o644))
}

// media makes the page look as on a medium, or in a scheme of colours.
func (b *browser) media(medium, scheme string) {
	b.call("Emulation.setEmulatedMedia", map[string]any{"media": medium,
		"features": []map[string]string{{"name": "prefers-color-scheme", "value": scheme}}})
}
