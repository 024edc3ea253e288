package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"missivum/e2e/rig"
)

// installing runs on a copy of this system's files that is gone afterwards: it installs the package, starts the service as its
// own account, changes a setting, installs again, removes and purges.
const installing = `set -e
work=$1 package=$2
mount -t tmpfs none "$work"
mkdir "$work/upper" "$work/work" "$work/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$work/upper,workdir=$work/work" "$work/root"
mount -t proc proc "$work/root/proc"
cp "$package" "$work/root/missivum.deb"
cat > "$work/root/run.sh" <<'END'
set -e
dpkg --force-depends -i /missivum.deb >/dev/null
stat -c '%n %U:%G %a' /etc/missivum /etc/missivum/settings.yaml /var/lib/missivum /usr/bin/missivum
as() { su -s /bin/sh missivum -c "$1"; }
as 'missivum config check --config /etc/missivum/settings.yaml' | grep '^data ' 
as 'missivum serve --config /etc/missivum/settings.yaml --listen 127.0.0.1:0' > /served 2>&1 &
for i in $(seq 100); do grep -q 'is at' /served && break; sleep 0.1; done
grep 'is at' /served
kill $(pgrep -u missivum -x missivum); wait || true
as 'missivum doctor --config /etc/missivum/settings.yaml' | grep -E 'data folder|database|record'
echo '# changed' >> /etc/missivum/settings.yaml
dpkg --force-depends --force-confold -i /missivum.deb >/dev/null
tail -1 /etc/missivum/settings.yaml
dpkg --remove missivum >/dev/null
ls /var/lib/missivum/missivum.db /etc/missivum/settings.yaml
dpkg --purge missivum 2>&1 | grep 'is left'
ls /var/lib/missivum/missivum.db
ls /etc/missivum /usr/bin/missivum 2>&1 || true
END
chroot "$work/root" sh /run.sh
`

// TestTheDebianPackageInstalls also looks at what the service may do by its unit.
func TestTheDebianPackageInstalls(t *testing.T) {
	t.Parallel()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	build := exec.Command("go", "run", "./packaging", "-binary", binary, "-version", "1.0", "-output", folder)
	build.Dir = root
	out, err := build.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if os.Getuid() != 0 {
		t.Skip("installing needs an administrator")
	}
	work := filepath.Join(folder, "work")
	if err := os.Mkdir(work, 0o700); err != nil {
		t.Fatal(err)
	}
	said, err := exec.Command("unshare", "--mount", "sh", "-c", installing, "sh", work,
		filepath.Join(folder, "missivum_1.0_amd64.deb")).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, said)
	}
	text := strings.Join(strings.Fields(string(said)), " ")
	for _, want := range []string{
		"/etc/missivum root:missivum 750", "/etc/missivum/settings.yaml root:missivum 640", "/var/lib/missivum missivum:missivum 750",
		"/usr/bin/missivum root:root 755", "data /var/lib/missivum /etc/missivum/settings.yaml:", "Missivum is at http://127.0.0.1:",
		"✓ data folder /var/lib/missivum", "✓ database sound", "✓ record whole", "# changed",
		"/var/lib/missivum is left with what the service kept",
		"/var/lib/missivum/missivum.db ls: cannot access '/etc/missivum'", "cannot access '/usr/bin/missivum'",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("not said: %q", want)
		}
	}
	if t.Failed() {
		t.Logf("%s", said)
	}
	if _, err := exec.LookPath("systemd-analyze"); err == nil {
		if out, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=25",
			filepath.Join(root, "packaging/files/missivum.service")).CombinedOutput(); err != nil {
			t.Errorf("the unit lets the service do too much: %v\n%s", err, out)
		}
	}
}
