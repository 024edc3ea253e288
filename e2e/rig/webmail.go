package rig

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"
)

// WebmailPages is where Debian's package roundcube-core keeps its pages; webmailDefaults where its settings are.
const (
	WebmailPages    = "/var/lib/roundcube/public_html"
	webmailDefaults = "/etc/roundcube/"
)

// WebmailUser is who signs, and writes to herself.
const WebmailUser = "maren.lind@brackwater.example"

// Webmail is the webmail of Debian's package roundcube-core with a mail server of its own, on loopback.
type Webmail struct {
	Server  *MailServer
	Address string
	folder  string
	process *exec.Cmd
}

// StartWebmail starts both.
func StartWebmail() (*Webmail, error) {
	server, err := StartMailServer("", "")
	if err != nil {
		return nil, err
	}
	w := &Webmail{Server: server}
	if err := w.start(); err != nil {
		return nil, errors.Join(err, w.Close())
	}
	return w, nil
}

func (w *Webmail) start() (err error) {
	if w.folder, err = os.MkdirTemp("", "webmail"); err != nil {
		return err
	}
	for _, name := range []string{"defaults.inc.php", "mimetypes.php"} {
		data, err := os.ReadFile(webmailDefaults + name)
		if err == nil {
			err = os.WriteFile(filepath.Join(w.folder, name), data, 0o600)
		}
		if err != nil {
			return err
		}
	}
	settings := map[string]string{"db_dsnw": "sqlite:///" + w.database() + "?mode=0600", "imap_host": w.Server.Address("imap"),
		"smtp_host": w.Server.Address(Plain), "smtp_user": "", "smtp_pass": "", "des_key": "abcdefghijklmnopqrstuvwx",
		"skin": "elastic", "log_dir": w.folder, "temp_dir": w.folder, "language": "en_US"}
	text := "<?php\n$config['htmleditor'] = 1;\n$config['plugins'] = [];\n$config['draft_autosave'] = 0;\n"
	for name, value := range settings {
		text += fmt.Sprintf("$config['%s'] = '%s';\n", name, value)
	}
	if err := os.WriteFile(filepath.Join(w.folder, "config.inc.php"), []byte(text), 0o600); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.Address = "http://" + listener.Addr().String()
	listener.Close() // the port is for the webmail
	w.process = exec.Command("php", "-S", listener.Addr().String(), "-t", WebmailPages)
	w.process.Env = append(os.Environ(), "ROUNDCUBE_CONFIG_DIR="+w.folder)
	return w.process.Start()
}

// AddIdentity gives the user, who has signed in, another sender's address, in the settings of the webmail.
func (w *Webmail) AddIdentity(tab context.Context, name, mail string) error {
	err := chromedp.Do(tab, w.Open("_task=settings&_action=add-identity"), chromedp.WaitVisible(chromedp.CSS("#rcmfd_name")),
		chromedp.SendKeys(chromedp.CSS("#rcmfd_name"), name), chromedp.SendKeys(chromedp.CSS("#rcmfd_email"), mail),
		chromedp.Click(chromedp.CSS("button.submit")))
	for saved := false; err == nil && !saved; time.Sleep(100 * time.Millisecond) {
		saved, err = chromedp.Run(tab, chromedp.Evaluate[bool](`location.search === '' && document.readyState === 'complete'`))
	}
	return err
}

func (w *Webmail) database() string { return filepath.Join(w.folder, "webmail.db") }

// Close ends both.
func (w *Webmail) Close() error {
	if w.process != nil && w.process.Process != nil {
		w.process.Process.Kill() // fails when it has ended already
		w.process.Wait()         // it was killed
	}
	return errors.Join(w.Server.Stop(), os.RemoveAll(w.folder))
}

// Open shows a page of the webmail, which a query names.
func (w *Webmail) Open(query string) chromedp.Action[chromedp.Void] {
	return chromedp.Navigate(w.Address + "/?" + query)
}

// SignIn signs in.
func (w *Webmail) SignIn(tab context.Context) error {
	return chromedp.Do(tab, w.Open(""), chromedp.WaitVisible(chromedp.CSS("#rcmloginuser")),
		chromedp.SendKeys(chromedp.CSS("#rcmloginuser"), WebmailUser), chromedp.SendKeys(chromedp.CSS("#rcmloginpwd"), "secret"),
		chromedp.Click(chromedp.CSS("#rcmloginsubmit")), chromedp.WaitVisible(chromedp.CSS("#layout-menu")))
}
