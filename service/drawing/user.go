package drawing

import (
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"sync"
	"syscall"
)

// lesser is the account without rights as which browsers and word processors run when the service itself runs as root;
// nil where it does not, or where there is no such account.
var lesser = sync.OnceValue(func() *syscall.Credential {
	if os.Geteuid() != 0 {
		return nil
	}
	nobody, err := user.Lookup("nobody")
	if err != nil {
		return nil
	}
	uid, uidErr := strconv.ParseUint(nobody.Uid, 10, 32)
	gid, gidErr := strconv.ParseUint(nobody.Gid, 10, 32)
	if uidErr != nil || gidErr != nil || uid == 0 {
		return nil
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
})

// handOver gives a file or a folder to the account that programs run as.
func handOver(path string) error {
	account := lesser()
	if account == nil {
		return nil
	}
	return os.Chown(path, int(account.Uid), int(account.Gid))
}

// confine makes a command run as that account, at home in a folder, and end with the service.
func confine(c *exec.Cmd, home string) {
	if c.SysProcAttr == nil {
		c.SysProcAttr = &syscall.SysProcAttr{}
	}
	c.SysProcAttr.Pdeathsig = syscall.SIGKILL
	c.SysProcAttr.Credential = lesser()
	if c.Env == nil {
		c.Env = os.Environ()
	}
	c.Env = append(c.Env, "HOME="+home, "TMPDIR="+home, "XDG_CONFIG_HOME="+home, "XDG_CACHE_HOME="+home, "XDG_RUNTIME_DIR="+home)
}

// newFolder makes a folder of the account that programs run as.
func newFolder() (string, error) {
	folder, err := os.MkdirTemp("", "missivum-drawing-")
	if err != nil {
		return "", err
	}
	return folder, handOver(folder)
}

// writeFor writes a file that the account can read.
func writeFor(name, text string) error {
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		return err
	}
	return handOver(name)
}
