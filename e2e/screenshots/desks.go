package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/e2e/rig"
)

// desks draws the release and the desks of the demo, after a first wave of a dozen desks of which three went wrong.
func desks(ctx context.Context, binary, root, folder, out string) error {
	server, err := rig.Start(binary, "demo", "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer server.Stop()
	clients := filepath.Join(folder, "desks")
	build := exec.Command("go", "build", "-o", clients, "missivum/lab/desks")
	build.Dir = root
	if said, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, said)
	}
	at := func(home string, name string, args ...string) (string, error) {
		c := exec.Command(name, args...)
		c.Dir = root
		c.Env = append(os.Environ(), "HOME="+home, "XDG_STATE_HOME="+home+"/state", "MISSIVUM_SERVER="+server.Address)
		said, err := c.CombinedOutput()
		if err != nil {
			return "", fmt.Errorf("%s %q: %w: %s", name, args, err, said)
		}
		return string(said), nil
	}
	people, err := first(folder, at, binary)
	if err != nil {
		return err
	}
	for i, mail := range people {
		home := filepath.Join(folder, fmt.Sprint("desk", i))
		var errs []error
		for j, client := range []string{"tiller", "paddle", "rudder"} {
			if (i+j)%3 == 2 {
				continue // not everybody has every client
			}
			_, err := at(home, clients, client, "setup")
			errs = append(errs, err)
		}
		watch := []string{"desk", "watch", "--once", "--places", "demo/places", "--person", mail, "--key-file", filepath.Join(folder, "desk.key")}
		_, err := at(home, binary, watch...)
		errs = append(errs, err)
		switch i {
		case 2:
			errs = append(errs, replaceIn(filepath.Join(home, ".config/rudder/signatures/brackwater.html"), "Marine", "Harbour"))
		case 3:
			errs = append(errs, os.Remove(filepath.Join(home, ".config/paddle/signatures/5d8c1f.mime")))
		case 6:
			errs = append(errs, replaceIn(filepath.Join(home, ".config/tiller/signatures/brackwater-new.htm"), "Desk", "Private"))
		default:
			continue
		}
		_, err = at(home, binary, "desk", "report", "--places", "demo/places", "--key-file", filepath.Join(folder, "desk.key"))
		if err := errors.Join(append(errs, err)...); err != nil {
			return err
		}
	}
	tab, stop := rig.Browser(ctx, width, height)
	defer stop()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(width, height)); err != nil {
		return err
	}
	tab, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	visible := func(selector chromedp.CSS) step { return chromedp.WaitVisible(selector) }
	link, err := at(folder, binary, "personal", "link", people[0])
	if err != nil {
		return err
	}
	_, token, _ := strings.Cut(strings.Fields(link)[0], "#")
	return take(tab, server.Address, out, []shot{
		{"your-signature", "/your-signature#" + token, []step{
			chromedp.Click(`//li//button[contains(., "capped signature box")]`), chromedp.WaitVisible(`//iframe`), chromedp.Sleep(time.Second),
		}},
		{"add-on", "/desks/add-on", []step{visible(`textarea`), chromedp.Sleep(time.Second)}},
		{"desks", "/desks?wave=1", []step{visible(`table[aria-label="Desks"] td`)}},
		{"release", "/releases/1", []step{visible(`table[aria-label="Waves"] td`), visible(`table[aria-label="What the checks found"] td`)}},
	})
}

// first makes the release, sends it to its first wave, and gives the people of a dozen desks.
func first(folder string, at func(home, name string, args ...string) (string, error), binary string) ([]string, error) {
	for _, args := range [][]string{
		{"release", "make", "Winter timetable", "--base", "brackwater", "--as", "Maren", "--note", "The banner of the winter timetable"},
		{"release", "approve", "1", "--as", "Bo"}, {"release", "send", "1", "--wave", "crew:80", "--wave", "everybody"},
	} {
		if _, err := at(folder, binary, args...); err != nil {
			return nil, err
		}
	}
	key, err := at(folder, binary, "key", "add", "desks", "--scope", "desk")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(folder, "desk.key"), []byte(key[strings.Index(key, "missivum-"):]), 0o600); err != nil {
		return nil, err
	}
	crew, err := at(folder, binary, "audience", "people", "crew")
	if err != nil {
		return nil, err
	}
	var people []string
	for _, line := range strings.Split(crew, "\n") {
		if mail, _, ok := strings.Cut(line, " "); ok && strings.Contains(mail, "@") && len(people) < 12 {
			people = append(people, mail)
		}
	}
	return people, nil
}

// replaceIn replaces a text in a file.
func replaceIn(name, from, to string) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	return os.WriteFile(name, []byte(strings.Replace(string(data), from, to, 1)), 0o644)
}
