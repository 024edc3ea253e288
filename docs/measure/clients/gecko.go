package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/coder/websocket/wsjson"
)

// geckoBrowser is the path of the installed browser with the Gecko engine, the only program of Debian that ends in -esr;
// empty when there is none.
func geckoBrowser() string {
	found, err := filepath.Glob("/usr/bin/*-esr")
	if err != nil || len(found) == 0 {
		return ""
	}
	return found[0]
}

func geckoVersion() string { return version(filepath.Base(geckoBrowser())) }

// Gecko is a browser with the Gecko engine, driven without a window by WebDriver BiDi (W3C).
type Gecko struct {
	process *exec.Cmd
	profile string
	socket  *websocket.Conn
	last    int
	context string // the tab
}

// listening is the line in which the browser says where it is to be reached.
var listening = regexp.MustCompile(`WebDriver BiDi listening on (ws://\S+)`)

// startGecko starts the browser with a profile of its own, and preferences as lines of its file user.js.
func startGecko(ctx context.Context, preferences ...string) (*Gecko, error) {
	profile, err := os.MkdirTemp("", "gecko")
	if err == nil {
		err = os.WriteFile(filepath.Join(profile, "user.js"), []byte(strings.Join(preferences, "\n")), 0o600)
	}
	if err != nil {
		return nil, err
	}
	g := &Gecko{profile: profile}
	// without access to the system, pages of add-ons are not opened
	g.process = exec.CommandContext(ctx, geckoBrowser(), "--headless", "--no-remote", "--remote-allow-system-access", "--profile", profile,
		"--remote-debugging-port", "0", "about:blank")
	said, err := g.process.StderrPipe()
	if err == nil {
		err = g.process.Start()
	}
	if err != nil {
		os.RemoveAll(profile)
		return nil, err
	}
	if err := g.connect(ctx, said); err != nil {
		return nil, errors.Join(err, g.Close())
	}
	return g, nil
}

func (g *Gecko) connect(ctx context.Context, said io.Reader) error {
	lines, address := bufio.NewScanner(said), ""
	for address == "" && lines.Scan() {
		if m := listening.FindStringSubmatch(lines.Text()); m != nil {
			address = m[1]
		}
	}
	if address == "" {
		return errors.New("the browser with the Gecko engine ended before it could be reached")
	}
	go io.Copy(io.Discard, said) // or it would wait for a reader
	var err error
	if g.socket, _, err = websocket.Dial(ctx, address+"/session", nil); err != nil {
		return err
	}
	g.socket.SetReadLimit(64 << 20)
	if err := g.call(ctx, "session.new", map[string]any{"capabilities": map[string]any{}}, nil); err != nil {
		return err
	}
	var tree struct {
		Contexts []struct{ Context string }
	}
	if err := g.call(ctx, "browsingContext.getTree", map[string]any{}, &tree); err != nil {
		return err
	}
	if len(tree.Contexts) == 0 {
		return errors.New("the browser has no tab")
	}
	g.context = tree.Contexts[0].Context
	return nil
}

// Close ends the browser.
func (g *Gecko) Close() error {
	if g.socket != nil {
		g.socket.CloseNow() // it is killed all the same
	}
	g.process.Process.Kill() // fails when it has ended already
	g.process.Wait()         // it was killed
	return os.RemoveAll(g.profile)
}

// call sends a command and waits for its answer.
func (g *Gecko) call(ctx context.Context, method string, params map[string]any, into any) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	g.last++
	if err := wsjson.Write(ctx, g.socket, map[string]any{"id": g.last, "method": method, "params": params}); err != nil {
		return err
	}
	for {
		var answer struct {
			ID             int
			Type           string
			Error, Message string
			Result         json.RawMessage
		}
		if err := wsjson.Read(ctx, g.socket, &answer); err != nil {
			return err
		}
		switch {
		case answer.ID != g.last: // an event
		case answer.Type == "error":
			return fmt.Errorf("%s: %s: %s", method, answer.Error, answer.Message)
		case into == nil:
			return nil
		default:
			return json.Unmarshal(answer.Result, into)
		}
	}
}

// show opens a page.
func (g *Gecko) show(ctx context.Context, address string) error {
	return g.call(ctx, "browsingContext.navigate", map[string]any{"context": g.context, "url": address, "wait": "complete"}, nil)
}

// control presses a key together with the control key.
func (g *Gecko) control(ctx context.Context, key string) error {
	const controlKey = "\uE009" // WebDriver, 17.4.2
	press := func(kind, key string) map[string]any { return map[string]any{"type": kind, "value": key} }
	return g.call(ctx, "input.performActions", map[string]any{"context": g.context, "actions": []any{map[string]any{
		"type": "key", "id": "keyboard", "actions": []any{press("keyDown", controlKey), press("keyDown", key),
			press("keyUp", key), press("keyUp", controlKey)}}}}, nil)
}

// evaluate gives the text that a script ends with.
func (g *Gecko) evaluate(ctx context.Context, script string) (string, error) {
	var answer struct {
		Type   string
		Result struct {
			Type  string
			Value any
		}
		ExceptionDetails struct{ Text string }
	}
	err := g.call(ctx, "script.evaluate", map[string]any{"expression": script, "awaitPromise": true,
		"target": map[string]any{"context": g.context}}, &answer)
	if err != nil {
		return "", err
	}
	text, ok := answer.Result.Value.(string)
	if !ok && answer.Type == "exception" {
		return "", errors.New(answer.ExceptionDetails.Text)
	}
	return text, nil
}
