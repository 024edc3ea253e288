// Package rig starts the built program and a browser for end-to-end tests and for the screenshots.
package rig

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"
)

// Build builds the program into a folder and returns its path. It must be called below the
// repository's root.
func Build(folder string) (string, error) {
	root, err := Root()
	if err != nil {
		return "", err
	}
	binary := filepath.Join(folder, "missivum")
	build := exec.Command("go", "build", "-o", binary, ".")
	build.Dir = root
	if out, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("building the program: %w\n%s", err, out)
	}
	return binary, nil
}

// Root finds the repository's root above the working directory.
func Root() (string, error) {
	dir, err := os.Getwd()
	if err != nil {
		return "", err
	}
	for {
		if _, err := os.Stat(filepath.Join(dir, "go.mod")); err == nil {
			return dir, nil
		}
		if parent := filepath.Dir(dir); parent != dir {
			dir = parent
			continue
		}
		return "", errors.New("no go.mod above the working directory")
	}
}

// Soak is how much of something a test does: less in every run, all of it in make soak.
func Soak(less, all int) int {
	if os.Getenv("MISSIVUM_SOAK") != "" {
		return all
	}
	return less
}

// Server is a running program.
type Server struct {
	Address string // such as http://127.0.0.1:41234
	command *exec.Cmd
	log     *strings.Builder

	mu    sync.Mutex
	lines []string // that it printed
}

// Line gives the first line that the program printed on standard output and that begins with a text; it waits for it for a
// while, and gives a blank one when there is none.
func (s *Server) Line(begin string) string {
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		s.mu.Lock()
		lines := slices.Clone(s.lines)
		s.mu.Unlock()
		for _, line := range lines {
			if strings.HasPrefix(line, begin) {
				return line
			}
		}
	}
	return ""
}

// Start runs the program with arguments that make it serve, and waits until it says its address.
func Start(binary string, args ...string) (*Server, error) {
	s := &Server{command: exec.Command(binary, args...), log: &strings.Builder{}}
	s.command.Stderr = s.log
	out, err := s.command.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.command.Start(); err != nil {
		return nil, err
	}
	found := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			s.mu.Lock()
			s.lines = append(s.lines, lines.Text())
			s.mu.Unlock()
			if _, address, ok := strings.Cut(lines.Text(), " is at "); ok && s.Address == "" {
				s.Address = address
				found <- address
			}
		}
		close(found)
		io.Copy(io.Discard, out)
	}()
	select {
	case _, ok := <-found:
		if ok {
			return s, nil
		}
	case <-time.After(30 * time.Second):
	}
	err = s.Stop()
	return nil, errors.Join(fmt.Errorf("the service did not start: %s", s.log), err)
}

// Stop interrupts the program and waits for it to end by itself.
func (s *Server) Stop() error {
	if err := s.command.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- s.command.Wait() }()
	select {
	case err := <-ended:
		return err
	case <-time.After(30 * time.Second):
		return errors.Join(errors.New("the service did not stop"), s.command.Process.Kill())
	}
}

// Browser starts headless Chromium with a window of the given size in pixels and a profile of its own.
func Browser(ctx context.Context, width, height int, flags ...chromedp.ExecAllocatorOption) (context.Context, context.CancelFunc) {
	options := append(slices.Clone(chromedp.DefaultExecAllocatorOptions[:]),
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("force-prefers-reduced-motion", true),
	)
	if path, err := exec.LookPath("chromium"); err == nil {
		options = append(options, chromedp.ExecPath(path))
	}
	alloc, stopAlloc := chromedp.NewExecAllocator(ctx, append(options, flags...)...)
	tab, stopTab := chromedp.NewContext(alloc)
	return tab, func() { stopTab(); stopAlloc() }
}

// Choose picks an entry of a console's select field by its label.
func Choose(label, entry string) chromedp.Action[chromedp.Void] {
	field := fmt.Sprintf(`//*[contains(@class, "MuiInputLabel-root") and contains(., %q)]/following-sibling::div//*[@role="combobox"]`, label)
	return chromedp.Steps(
		chromedp.WaitVisible(field),
		chromedp.SendKeys(field, " "),
		chromedp.Click(fmt.Sprintf(`//li[@role="option" and contains(., %q)]`, entry)),
		chromedp.WaitNotPresent(`//li[@role="option"]`),
	)
}

// PID is the number of the program's process.
func (s *Server) PID() int { return s.command.Process.Pid }

// Kill ends the program at once, as a crash does.
func (s *Server) Kill() {
	s.command.Process.Kill() // fails when it has ended already
	s.command.Wait()         // it was killed
}
