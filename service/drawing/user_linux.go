package drawing

import (
	"context"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"sync"
	"syscall"
	"time"
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

// ending is a command that ends with its context, with all that it started, and that finds no network through a proxy.
func ending(ctx context.Context, folder, name string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, name, args...)
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
	c.WaitDelay = time.Second
	c.Env = append(os.Environ(), "http_proxy=http://"+nowhere, "https_proxy=http://"+nowhere, "no_proxy=")
	confine(c, folder)
	return c
}
