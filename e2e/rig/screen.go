package rig

import (
	"bufio"
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"
)

// MailClientSettings prepare Debian's mail client: one account, one identity, nothing that asks. PORT stands for where it
// sends to.
//
//go:embed mailclient-prefs.js
var MailClientSettings string

// Screen is a display without a monitor, with programs on it.
type Screen struct {
	Display string // for the environment's DISPLAY
	home    string
	process *exec.Cmd
}

// NewScreen starts a display of a size in px; home is the home directory of the programs on it.
func NewScreen(home string, width, height int) (*Screen, error) {
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer read.Close()
	x := exec.Command("Xvfb", "-displayfd", "3", "-screen", "0", fmt.Sprintf("%dx%dx24", width, height))
	x.ExtraFiles = []*os.File{write}
	err = x.Start()
	write.Close()
	if err != nil {
		return nil, fmt.Errorf("the display (Xvfb) is not there; scripts/setup.sh installs it: %w", err)
	}
	s := &Screen{home: home, process: x}
	number, err := bufio.NewReader(read).ReadString('\n') // whole, since the display ends when nobody reads what it says
	if err != nil {
		s.Close()
		return nil, err
	}
	s.Display = ":" + strings.TrimSpace(number)
	return s, nil
}

// Close ends the display, and the programs on it with it.
func (s *Screen) Close() {
	s.process.Process.Kill() // fails when it has ended already
	s.process.Wait()         // it was killed
}

// Command is a program on the display.
func (s *Screen) Command(name string, args ...string) *exec.Cmd {
	c := exec.Command(name, args...)
	c.Env = append(os.Environ(), "DISPLAY="+s.Display, "HOME="+s.home, "XDG_STATE_HOME="+s.home+"/state", "MOZ_DISABLE_CONTENT_SANDBOX=1",
		"LIBGL_ALWAYS_SOFTWARE=1", "TZ=UTC")
	return c
}

// Window waits for a window whose title holds a text.
func (s *Screen) Window(title string) (string, error) {
	for until := time.Now().Add(90 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
		out, _ := s.Command("xdotool", "search", "--onlyvisible", "--name", title).Output() // fails while there is none
		if first, _, _ := strings.Cut(string(out), "\n"); first != "" {
			return first, nil
		}
	}
	return "", fmt.Errorf("no window %q appeared", title)
}

// Press presses a key in a window.
func (s *Screen) Press(window, key string) error {
	if out, err := s.Command("xdotool", "windowfocus", "--sync", window).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	time.Sleep(300 * time.Millisecond)
	if out, err := s.Command("xdotool", "key", key).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}
