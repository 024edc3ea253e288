package gateway

import (
	"bufio"
	"bytes"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
)

// XFORWARD is how Postfix tells a filter, and the filter the server behind it, whom it serves, so that logs and rules there name the
// client and not the filter (Postfix, XFORWARD_README). The SMTP library does not speak it; it is taken out of the conversation and
// put into it here.

// xforwardNames are the attributes that are passed on.
const xforwardNames = "NAME ADDR PORT PROTO HELO IDENT SOURCE"

// maxCommand is how long a command line may be that is looked at, in bytes; a longer one is left to the library, which refuses it.
const maxCommand = 4 << 10

// listening gives each connection's conversation the command XFORWARD.
type listening struct{ net.Listener }

func (l listening) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &talk{Conn: c, in: bufio.NewReaderSize(c, maxCommand)}, nil
}

// talk is a client's connection. The library asks for more only after it has answered what it has, so that lines can be answered
// between its reads.
type talk struct {
	net.Conn
	in   *bufio.Reader
	rest []byte // of a line, still to be read by the library

	mutex    sync.Mutex
	last     string // command that the library read last, in capitals
	data     bool   // what comes is a message, up to its dot
	raw      int    // how many bytes come that are no commands (BDAT); -1 for all further ones (STARTTLS)
	atStart  bool   // of a line of the message
	forwards []string
}

// Read gives the library what the client says, but for XFORWARD.
func (t *talk) Read(p []byte) (int, error) {
	for len(t.rest) == 0 {
		t.mutex.Lock()
		raw := t.raw
		t.mutex.Unlock()
		if raw != 0 {
			if raw > 0 && raw < len(p) {
				p = p[:raw]
			}
			n, err := t.in.Read(p)
			if raw > 0 {
				t.mutex.Lock()
				t.raw -= n
				t.mutex.Unlock()
			}
			return n, err
		}
		line, err := t.in.ReadSlice('\n')
		if len(line) == 0 {
			return 0, err
		}
		if err != nil && err != bufio.ErrBufferFull && err != io.EOF {
			return 0, err
		}
		pass, err := t.said(line)
		if err != nil {
			return 0, err
		}
		if pass {
			t.rest = line // valid until the next read of the buffer, which is when nothing is left of it
		}
	}
	n := copy(p, t.rest)
	t.rest = t.rest[n:]
	return n, nil
}

// said looks at a line; false says that the library does not get it.
func (t *talk) said(line []byte) (pass bool, err error) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.data {
		if t.atStart && bytes.Equal(bytes.TrimRight(line, "\r\n"), []byte(".")) {
			t.data, t.last = false, ""
		}
		t.atStart = bytes.HasSuffix(line, []byte("\n"))
		return true, nil
	}
	words := strings.Fields(string(line))
	if len(words) == 0 {
		return true, nil
	}
	switch t.last = strings.ToUpper(words[0]); t.last {
	case "XFORWARD":
		answer := "250 2.0.0 Ok\r\n"
		for _, w := range words[1:] {
			if name, _, ok := strings.Cut(w, "="); !ok || !strings.Contains(" "+xforwardNames+" ", " "+strings.ToUpper(name)+" ") {
				answer = "501 5.5.4 Bad XFORWARD attribute\r\n"
			}
		}
		if strings.HasPrefix(answer, "250") && len(t.forwards) < 20 {
			t.forwards = append(t.forwards, strings.Join(words[1:], " "))
		}
		_, err := io.WriteString(t.Conn, answer)
		return false, err
	case "BDAT":
		if len(words) > 1 {
			if n, err := strconv.Atoi(words[1]); err == nil && n > 0 {
				t.raw = n
			}
		}
	case "STARTTLS":
		t.raw = -1
	case "EHLO", "HELO":
		t.forwards = nil
	}
	return true, nil
}

// Write sends the library's answers, and learns from them.
func (t *talk) Write(p []byte) (int, error) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	switch {
	case t.last == "EHLO" && bytes.HasPrefix(p, []byte("250-")):
		t.last = ""
		end := bytes.IndexByte(p, '\n') + 1
		out := append(append(bytes.Clone(p[:end]), "250-XFORWARD "+xforwardNames+"\r\n"...), p[end:]...)
		if _, err := t.Conn.Write(out); err != nil {
			return 0, err
		}
		return len(p), nil
	case t.last == "DATA" && bytes.HasPrefix(p, []byte("354")):
		t.data, t.atStart = true, true
	case t.last == "STARTTLS" && !bytes.HasPrefix(p, []byte("220")) && t.raw == -1 && len(p) > 0 && p[0] >= '4' && p[0] <= '5':
		t.raw, t.last = 0, "" // refused
	}
	return t.Conn.Write(p)
}

// takeForwards gives what the client said of whom it serves, once.
func (t *talk) takeForwards() []string {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	list := t.forwards
	t.forwards = nil
	return list
}

// forward passes on whom the client serves, where the next server takes it and the connection is not encrypted, as between services
// of one machine. The library waits for nothing meanwhile.
func (r *relayed) forward() error {
	t, ok := r.conn.Conn().(*talk)
	if !ok || r.nextConn == nil {
		return nil
	}
	takes, _ := r.next.Extension("XFORWARD")
	for _, line := range t.takeForwards() {
		if !takes {
			continue
		}
		if _, err := io.WriteString(r.nextConn, "XFORWARD "+line+"\r\n"); err != nil {
			return err
		}
		if _, err := bufio.NewReader(oneByte{r.nextConn}).ReadString('\n'); err != nil { // a refusal changes only what its log says
			return err
		}
	}
	return nil
}

// oneByte reads byte by byte, so that nothing is taken that belongs to the library.
type oneByte struct{ io.Reader }

func (o oneByte) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	return o.Reader.Read(p[:1])
}
