package rig

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// MailServer is a Postfix of its own with a Dovecot behind it, on loopback, in a folder of its own. Every address is taken; the
// mailbox is called like the address.
type MailServer struct {
	Folder string
	ports  map[string]int
	dove   *exec.Cmd
}

// Services are ways into the mail server that differ in who stands beside it.
const (
	Plain   = "plain"   // nobody
	Milter  = "milter"  // the milter
	Before  = "before"  // the relay, before the queue
	After   = "after"   // the relay, behind the queue
	reentry = "reentry" // where the relay gives messages back
	imap    = "imap"
)

// freePorts are ports of loopback that nobody listens at now.
func freePorts(names ...string) (map[string]int, error) {
	ports := map[string]int{}
	for _, name := range names {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer l.Close()
		ports[name] = l.Addr().(*net.TCPAddr).Port
	}
	return ports, nil
}

// StartMailServer starts both. milter and relay are addresses of the gateway, host:port; settings are added to Postfix's main.cf.
func StartMailServer(milter, relay string, settings ...string) (*MailServer, error) {
	if os.Getuid() != 0 {
		return nil, errors.New("the mail server wants to be started by root")
	}
	folder, err := os.MkdirTemp("/tmp", "mail")
	if err != nil {
		return nil, err
	}
	s := &MailServer{Folder: folder}
	if s.ports, err = freePorts(Plain, Milter, Before, After, reentry, imap); err != nil {
		return nil, err
	}
	if err := s.start(milter, relay, settings); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

func (s *MailServer) start(milter, relay string, settings []string) error {
	if err := os.Chmod(s.Folder, 0o755); err != nil {
		return err
	}
	for _, name := range []string{"conf", "queue", "data", "run", "mail"} {
		if err := os.Mkdir(filepath.Join(s.Folder, name), 0o755); err != nil {
			return err
		}
	}
	out, err := exec.Command("chown", "postfix", s.path("data")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("chown: %w\n%s", err, out)
	}
	if out, err := exec.Command("chown", "mail:mail", s.path("mail")).CombinedOutput(); err != nil {
		return fmt.Errorf("chown: %w\n%s", err, out)
	}
	if err := os.WriteFile(s.path("conf/main.cf"), []byte(s.main(settings)), 0o644); err != nil {
		return err
	}
	mailboxes := "" // of sink.example, which Postfix delivers itself
	for _, way := range []string{Milter, Before, After} {
		for i := range 100 {
			mailboxes += fmt.Sprintf("%s-%d@sink.example %[1]s-%d@sink.example/\n", way, i)
		}
	}
	if err := os.WriteFile(s.path("conf/mailboxes"), []byte(mailboxes), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(s.path("conf/master.cf"), []byte(s.master(milter, relay)), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(s.path("dovecot.conf"), []byte(s.dovecot()), 0o644); err != nil {
		return err
	}
	s.dove = exec.Command("dovecot", "-F", "-c", s.path("dovecot.conf"))
	if err := s.dove.Start(); err != nil {
		return err
	}
	if out, err := exec.Command("postfix", "-c", s.path("conf"), "start").CombinedOutput(); err != nil {
		return fmt.Errorf("postfix: %w\n%s%s", err, out, s.Log())
	}
	for _, name := range []string{Plain, imap} {
		if err := s.wait(s.Address(name)); err != nil {
			return fmt.Errorf("%w\n%s", err, s.Log())
		}
	}
	return nil
}

func (s *MailServer) path(name string) string { return filepath.Join(s.Folder, name) }

// wait waits until somebody listens.
func (s *MailServer) wait(address string) error {
	var err error
	for range 100 {
		var c net.Conn
		if c, err = net.Dial("tcp", address); err == nil {
			return c.Close()
		}
		time.Sleep(50 * time.Millisecond)
	}
	return err
}

// Address is where a service listens.
func (s *MailServer) Address(service string) string {
	return "127.0.0.1:" + strconv.Itoa(s.ports[service])
}

// Next is where the relay gives messages back.
func (s *MailServer) Next() string { return s.Address(reentry) }

func (s *MailServer) main(settings []string) string {
	return strings.Join(append([]string{
		"compatibility_level = 3.6", "queue_directory = " + s.path("queue"), "data_directory = " + s.path("data"),
		"command_directory = /usr/sbin", "daemon_directory = /usr/lib/postfix/sbin", "mail_owner = postfix", "setgid_group = postdrop",
		"maillog_file = " + s.path("postfix.log"), "maillog_file_prefixes = " + s.Folder, "inet_interfaces = 127.0.0.1", "inet_protocols = ipv4",
		"myhostname = mail.brackwater.example", "mydestination =", "mynetworks = 127.0.0.0/8", "alias_maps =", "local_recipient_maps =",
		"smtpd_relay_restrictions = permit_mynetworks, reject", "default_transport = lmtp:unix:" + s.path("lmtp"),
		"lmtp_destination_concurrency_limit = 20", "message_size_limit = 60000000", "mailbox_size_limit = 0", "smtpd_peername_lookup = no",
		"smtpd_client_connection_count_limit = 0", "smtpd_client_connection_rate_limit = 0", "minimal_backoff_time = 1s",
		"maximal_backoff_time = 2s", "queue_run_delay = 1s", "transport_retry_time = 1s",
		"default_destination_concurrency_failed_cohort_limit = 100", "milter_default_action = tempfail", "in_flow_delay = 0",
		"smtp_host_lookup = native", "disable_dns_lookups = yes", "transport_maps = inline:{ { sink.example = virtual: } }",
		"virtual_mailbox_base = " + s.path("mail"), "virtual_mailbox_maps = texthash:" + s.path("conf/mailboxes"),
		"virtual_uid_maps = static:8", "virtual_gid_maps = static:8", "virtual_minimum_uid = 1", "virtual_mailbox_limit = 0",
		"smtp_address_preference = ipv4", "smtpd_tls_security_level = none", "smtp_tls_security_level = none", "notify_classes =",
	}, settings...), "\n") + "\n"
}

func (s *MailServer) master(milter, relay string) string {
	service := func(name string, options ...string) string {
		line := s.Address(name) + " inet n - n - 50 smtpd"
		for _, o := range options {
			line += "\n  -o " + o
		}
		return line + "\n"
	}
	out := service(Plain) + service(reentry, "content_filter=", "smtpd_milters=", "smtpd_proxy_filter=",
		"receive_override_options=no_unknown_recipient_checks,no_milters")
	if milter != "" {
		out += service(Milter, "smtpd_milters=inet:"+milter)
	}
	if relay != "" {
		out += service(Before, "smtpd_proxy_filter="+relay) + service(After, "content_filter=smtp:["+strings.Replace(relay, ":", "]:", 1))
	}
	for _, line := range []string{"pickup unix n - n 60 1 pickup", "cleanup unix n - n - 0 cleanup", "qmgr unix n - n 300 1 qmgr",
		"tlsmgr unix - - n 1000? 1 tlsmgr", "rewrite unix - - n - - trivial-rewrite", "bounce unix - - n - 0 bounce",
		"defer unix - - n - 0 bounce",
		"trace unix - - n - 0 bounce", "verify unix - - n - 1 verify", "flush unix n - n 1000? 0 flush", "proxymap unix - - n - - proxymap",
		"proxywrite unix - - n - 1 proxymap", "smtp unix - - n - - smtp", "relay unix - - n - - smtp", "showq unix n - n - - showq",
		"error unix - - n - - error", "retry unix - - n - - error", "discard unix - - n - - discard", "local unix - n n - - local",
		"virtual unix - n n - - virtual", "lmtp unix - - n - - lmtp", "anvil unix - - n - 1 anvil", "scache unix - - n - 1 scache",
		"postlog unix-dgram n - n - 1 postlogd"} {
		out += line + "\n"
	}
	return out
}

func (s *MailServer) dovecot() string {
	return strings.NewReplacer("DIR", s.Folder, "PORT", strconv.Itoa(s.ports[imap])).Replace(`protocols = lmtp imap
base_dir = DIR/run
state_dir = DIR/run
log_path = DIR/dovecot.log
ssl = no
disable_plaintext_auth = no
first_valid_uid = 1
first_valid_gid = 1
default_process_limit = 200
mail_location = maildir:DIR/mail/%Lu
passdb {
  driver = static
  args = password=secret
}
userdb {
  driver = static
  args = uid=mail gid=mail home=DIR/mail/%Lu allow_all_users=yes
}
service lmtp {
  process_limit = 40
  unix_listener DIR/lmtp {
    mode = 0666
  }
}
service imap-login {
  inet_listener imap {
    address = 127.0.0.1
    port = PORT
  }
  inet_listener imaps {
    port = 0
  }
}
lmtp_save_to_detail_mailbox = no
recipient_delimiter =
`)
}

// Stop stops both and takes the folder away.
func (s *MailServer) Stop() error {
	var errs []error
	if out, err := exec.Command("postfix", "-c", s.path("conf"), "stop").CombinedOutput(); err != nil {
		errs = append(errs, fmt.Errorf("postfix stop: %w\n%s", err, out))
	}
	if s.dove != nil && s.dove.Process != nil {
		s.dove.Process.Signal(os.Interrupt)
		s.dove.Wait()
	}
	return errors.Join(append(errs, os.RemoveAll(s.Folder))...)
}

// Log is what both wrote into their logs.
func (s *MailServer) Log() string {
	var b strings.Builder
	for _, name := range []string{"postfix.log", "dovecot.log"} {
		text, _ := os.ReadFile(s.path(name))
		b.Write(text[max(0, len(text)-6_000):])
	}
	return b.String()
}

// Mailbox gives the messages of an address, each with CRLF line ends, without the fields that the servers put above it: from the
// field on that begins with the given name.
func (s *MailServer) Mailbox(address, first string) ([][]byte, error) {
	var list [][]byte
	for _, folder := range []string{"new", "cur"} {
		entries, err := os.ReadDir(s.path("mail/" + strings.ToLower(address) + "/" + folder))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			raw, err := os.ReadFile(s.path("mail/" + strings.ToLower(address) + "/" + folder + "/" + e.Name()))
			if err != nil {
				return nil, err
			}
			raw = bytes.ReplaceAll(bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n")), []byte("\n"), []byte("\r\n"))
			if i := bytes.Index(raw, []byte("\r\n"+first+":")); i >= 0 {
				raw = raw[i+2:]
			}
			list = append(list, raw)
		}
	}
	return list, nil
}

// Flush lets the mail server try all that waits at once.
func (s *MailServer) Flush() error {
	return exec.Command("postqueue", "-c", s.path("conf"), "-f").Run()
}

// Queue is how many messages wait.
func (s *MailServer) Queue() (int, error) {
	out, err := exec.Command("postqueue", "-c", s.path("conf"), "-j").Output()
	return bytes.Count(out, []byte("\n")), err
}
