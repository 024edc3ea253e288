package main

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"missivum/e2e/rig"
)

const webkitDriver = "/usr/bin/WebKitWebDriver"

func webkitVersion() string { return version("webkit2gtk-driver") }

// webkitWindow is the small browser that comes with the engine; empty when it is not there.
func webkitWindow() string {
	found, err := filepath.Glob("/usr/lib/*/webkit2gtk-*/MiniBrowser")
	if err != nil || len(found) == 0 {
		return ""
	}
	return found[len(found)-1]
}

// driver is a session of WebDriver (W3C).
type driver struct{ session string }

// call sends a command and reads the value of its answer.
func (d driver) call(method, path string, params, into any) error {
	body, err := json.Marshal(params)
	if err != nil {
		return err
	}
	request, err := http.NewRequest(method, d.session+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("%s %s: %s: %s", method, path, answer.Status, data)
	}
	return json.Unmarshal(data, &struct{ Value any }{into})
}

// webkit draws a page with the engine WebKit in a window on a display without a monitor.
func webkit(page, picture string, width, height int) (err error) {
	screen, err := rig.NewScreen(os.TempDir(), 1280, height+400)
	if err != nil {
		return err
	}
	defer screen.Close()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address := listener.Addr().String()
	listener.Close() // the port is for the driver
	_, port, _ := strings.Cut(address, ":")
	process := screen.Command(webkitDriver, "--port="+port)
	if err := process.Start(); err != nil {
		return err
	}
	defer func() {
		process.Process.Kill() // fails when it has ended already
		process.Wait()         // it was killed
	}()
	root := driver{"http://" + address}
	var session struct{ SessionID string }
	options := map[string]any{"binary": webkitWindow(), "args": []string{"--automation"}}
	start := map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"webkitgtk:browserOptions": options}}}
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if err = root.call("POST", "/session", start, &session); err == nil {
			break
		}
		if time.Now().After(until) {
			return fmt.Errorf("WebKit's driver: %w", err)
		}
	}
	d := driver{root.session + "/session/" + session.SessionID}
	defer func() { err = errors.Join(err, d.call("DELETE", "", nil, new(any))) }()
	err = d.call("POST", "/window/rect", map[string]any{"width": width + 60, "height": height + 200}, new(any))
	if err == nil {
		err = d.call("POST", "/url", map[string]any{"url": "file://" + page}, new(any))
	}
	if err != nil {
		return err
	}
	drawn, err := d.still(width, height)
	if err != nil {
		return err
	}
	data, err := base64.StdEncoding.DecodeString(drawn)
	if err != nil {
		return err
	}
	return os.WriteFile(picture, data, 0o600)
}

// still is the picture of a window that has grown to a size in px, taken when two in a row are alike.
func (d driver) still(width, height int) (string, error) {
	for last, until := "", time.Now().Add(20*time.Second); time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
		var large bool
		grown := fmt.Sprintf("return innerWidth >= %d && innerHeight >= %d", width, height)
		if err := d.call("POST", "/execute/sync", map[string]any{"script": grown, "args": []any{}}, &large); err != nil {
			return "", err
		}
		var drawn string
		if err := d.call("GET", "/screenshot", nil, &drawn); err != nil {
			return "", err
		}
		if large && drawn == last {
			return drawn, nil
		}
		last = drawn
	}
	return "", errors.New("WebKit's window does not come to rest")
}
