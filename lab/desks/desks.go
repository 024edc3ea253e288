// Command desks is four small stand-ins for mail clients, each with one habit that signatures suffer from. It is called by
// the stand-in's name (a copy or a link of the program), or with the name as its first argument:
//
//	paddle  rewrites its signature file when it starts, unless the file is read-only
//	tiller  wants three siblings under one name, for the three formats of its messages
//	rudder  keeps its choice for new messages and for replies in a settings file
//	anchor  holds its signature file open while it runs, and writes it back when it ends
//
// Each keeps its things below $HOME/.config/NAME. Without more it starts, writes what a new message and a reply would carry
// to standard output, and ends. With "stay" it runs until its standard input ends. With "setup" it makes its folder as it is
// after the first start.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/quotedprintable"
	"os"
	"path/filepath"
	"sort"
	"strings"
)

func main() {
	name, args := filepath.Base(os.Args[0]), os.Args[1:]
	if name = strings.TrimSuffix(name, ".exe"); name == "desks" && len(args) > 0 {
		name, args = args[0], args[1:]
	}
	home, err := os.UserHomeDir()
	if err == nil {
		err = run(name, filepath.Join(home, ".config", name), args)
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "%s: %v\n", name, err)
		os.Exit(1)
	}
}

// client is a stand-in.
type client interface {
	setup(folder string) error
	start(folder string) error // what it does to its files
	message(folder, situation string) (string, error)
	end(folder string) error
}

func run(name, folder string, args []string) error {
	clients := map[string]client{"paddle": paddle{}, "tiller": tiller{}, "rudder": rudder{}, "anchor": &anchor{}}
	c := clients[name]
	if c == nil {
		return errors.New("it is paddle, tiller, rudder or anchor")
	}
	if len(args) > 0 && args[0] == "setup" {
		return c.setup(folder)
	}
	if err := c.start(folder); err != nil {
		return err
	}
	for _, situation := range []string{"new", "reply"} {
		text, err := c.message(folder, situation)
		if err != nil {
			return err
		}
		fmt.Printf("%s: %s\n", situation, strings.Join(strings.Fields(text), " "))
	}
	if len(args) > 0 && args[0] == "stay" {
		if _, err := io.Copy(io.Discard, os.Stdin); err != nil {
			return err
		}
	}
	return c.end(folder)
}

// write writes a file into a folder that is made.
func write(name, text string) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, []byte(text), 0o644)
}

// paddle keeps one signature as a MIME part in a file with a name of its own.
type paddle struct{}

const paddlePart = "MIME-Version: 1.0\nContent-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: " +
	"quoted-printable\nMessage-Id: <4f9a@paddle.example>\n\n"

func (paddle) setup(folder string) error {
	return errors.Join(write(filepath.Join(folder, "signatures", "5d8c1f.mime"), paddlePart+"<p>TYPE-HERE</p>\n"),
		write(filepath.Join(folder, "signatures", "77a0e2.mime"), paddlePart+"<p>Private greetings</p>\n"))
}

// start writes every part again as it understands it, without the styles; a read-only file stays.
func (paddle) start(folder string) error {
	names, err := filepath.Glob(filepath.Join(folder, "signatures", "*.mime"))
	if err != nil {
		return err
	}
	for _, name := range names {
		info, err := os.Stat(name)
		if err != nil {
			return err
		}
		if info.Mode()&0o200 == 0 {
			continue
		}
		body, header, err := part(name)
		if err != nil {
			return err
		}
		for {
			before, rest, found := strings.Cut(body, ` style="`)
			_, after, closed := strings.Cut(rest, `"`)
			if !found || !closed {
				break
			}
			body = before + after
		}
		var b bytes.Buffer
		w := quotedprintable.NewWriter(&b)
		w.Write([]byte(body))
		w.Close()
		if err := os.WriteFile(name, append([]byte(header), b.Bytes()...), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// part reads a part file.
func part(name string) (body, header string, err error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return "", "", err
	}
	i := bytes.Index(data, []byte("\n\n"))
	if i < 0 {
		return "", "", fmt.Errorf("%s has no header lines", name)
	}
	text, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(data[i+2:])))
	return string(text), string(data[:i+2]), err
}

func (paddle) message(folder, _ string) (string, error) {
	body, _, err := part(filepath.Join(folder, "signatures", "5d8c1f.mime"))
	return body, err
}

func (paddle) end(string) error { return nil }

// tiller has a signature for each set of three siblings; what ends in -new goes into new messages, in -reply into replies,
// and one alone into both.
type tiller struct{}

func (tiller) setup(folder string) error {
	return os.MkdirAll(filepath.Join(folder, "signatures"), 0o755)
}

func (tiller) start(folder string) error {
	pages, err := filepath.Glob(filepath.Join(folder, "signatures", "*.htm"))
	if err != nil {
		return err
	}
	for _, page := range pages {
		for _, ending := range []string{".rtf", ".txt"} {
			if _, err := os.Stat(strings.TrimSuffix(page, ".htm") + ending); err != nil {
				return fmt.Errorf("%s has no sibling with the ending %s", page, ending)
			}
		}
	}
	return nil
}

func (tiller) message(folder, situation string) (string, error) {
	pages, err := filepath.Glob(filepath.Join(folder, "signatures", "*.htm"))
	if err != nil || len(pages) == 0 {
		return "", err
	}
	sort.Strings(pages)
	for _, page := range pages {
		if strings.HasSuffix(page, "-"+situation+".htm") || len(pages) == 1 {
			data, err := os.ReadFile(page)
			return string(data), err
		}
	}
	return "", nil
}

func (tiller) end(string) error { return nil }

// rudder reads the paths of its signatures from settings.json, which it writes again with the time of its last start.
type rudder struct{}

func (rudder) setup(folder string) error {
	return write(filepath.Join(folder, "settings.json"),
		"{\n  \"window\": {\"width\": 1200},\n  \"signature\": {\"new\": \"\", \"reply\": \"\"},\n  \"starts\": 1\n}\n")
}

func (rudder) start(folder string) error {
	settings, err := rudderSettings(folder)
	if err != nil {
		return err
	}
	starts, _ := settings["starts"].(float64)
	settings["starts"] = starts + 1
	text, err := json.MarshalIndent(settings, "", "  ")
	if err != nil {
		return err
	}
	return write(filepath.Join(folder, "settings.json"), string(text)+"\n")
}

func rudderSettings(folder string) (map[string]any, error) {
	data, err := os.ReadFile(filepath.Join(folder, "settings.json"))
	if err != nil {
		return nil, err
	}
	var settings map[string]any
	return settings, json.Unmarshal(data, &settings)
}

func (rudder) message(folder, situation string) (string, error) {
	settings, err := rudderSettings(folder)
	if err != nil {
		return "", err
	}
	chosen, _ := settings["signature"].(map[string]any)
	name, _ := chosen[situation].(string)
	if name == "" {
		return "", nil
	}
	data, err := os.ReadFile(name)
	return string(data), err
}

func (rudder) end(string) error { return nil }

// anchor reads one text, which it holds open while it runs and writes back at its end.
type anchor struct {
	file *os.File
	text string
}

func (*anchor) setup(folder string) error {
	return write(filepath.Join(folder, "anchor.ini"), "; anchor\n[mail]\nsignature =\n")
}

func (a *anchor) start(folder string) error {
	data, err := os.ReadFile(filepath.Join(folder, "anchor.ini"))
	if err != nil {
		return err
	}
	for _, line := range strings.Split(string(data), "\n") {
		if key, value, ok := strings.Cut(line, "="); ok && strings.TrimSpace(key) == "signature" {
			if name := strings.TrimSpace(value); name != "" {
				if a.file, err = os.OpenFile(name, os.O_RDWR, 0); err != nil {
					return err
				}
				text, err := io.ReadAll(a.file)
				if err != nil {
					return err
				}
				a.text = string(text)
			}
		}
	}
	return nil
}

func (a *anchor) message(string, string) (string, error) { return a.text, nil }

func (a *anchor) end(string) error {
	if a.file == nil {
		return nil
	}
	_, err := a.file.WriteAt([]byte(a.text), 0)
	return errors.Join(err, a.file.Close())
}
