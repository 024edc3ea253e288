// Command packaging makes the Debian package: an ar archive of a control and a data archive (deb(5)).
//
//	go run ./packaging -binary bin/missivum -output bin
package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/md5"
	"embed"
	"errors"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"time"

	"github.com/blakesmith/ar"
)

//go:embed files
var files embed.FS

func main() {
	binary := flag.String("binary", "bin/missivum", "the program")
	version := flag.String("version", "", "its version (default what the program says)")
	output := flag.String("output", "bin", "folder for the package")
	flag.Parse()
	name, err := build(*binary, *version, *output, time.Now())
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(name)
}

// settingsFile is the file that an upgrade leaves as the administrator has it.
const settingsFile = "/etc/missivum/settings.yaml"

// entry is a file of the package.
type entry struct {
	name string // path from the root
	mode int64
	data []byte
}

// build makes the package and gives its file.
func build(binary, version, output string, now time.Time) (string, error) {
	binary, err := filepath.Abs(binary)
	if err != nil {
		return "", err
	}
	if version == "" {
		said, err := exec.Command(binary, "--version").Output()
		if err != nil {
			return "", fmt.Errorf("the program's version: %w", err)
		}
		fields := strings.Fields(string(said))
		version = fields[len(fields)-1]
	}
	if !regexp.MustCompile(`^[0-9]`).MatchString(version) {
		version = "0~" + version // Debian's versions begin with a digit
	}
	installed, err := contents(binary)
	if err != nil {
		return "", err
	}
	about, err := control(version, installed)
	if err != nil {
		return "", err
	}
	name := filepath.Join(output, fmt.Sprintf("missivum_%s_%s.deb", version, runtime.GOARCH))
	return name, write(name, about, installed, now)
}

// contents are the files that the package installs.
func contents(binary string) ([]entry, error) {
	example, err := exec.Command(binary, "config", "example").Output()
	if err != nil {
		return nil, fmt.Errorf("the example of settings: %w", err)
	}
	settings := regexp.MustCompile(`(?m)^data: .*$`).ReplaceAll(example, []byte("data: /var/lib/missivum"))
	program, err := os.ReadFile(binary)
	if err != nil {
		return nil, err
	}
	unit, err := files.ReadFile("files/missivum.service")
	return []entry{{settingsFile, 0o640, settings}, {"/lib/systemd/system/missivum.service", 0o644, unit},
		{"/usr/bin/missivum", 0o755, program}}, err
}

// control are the files that say what the package is, and what is run when it is installed and removed.
func control(version string, installed []entry) ([]entry, error) {
	var size int
	var sums strings.Builder
	for _, e := range installed {
		size += len(e.data)
		fmt.Fprintf(&sums, "%x  %s\n", md5.Sum(e.data), e.name[1:])
	}
	about := fmt.Sprintf(`Package: missivum
Version: %s
Section: mail
Priority: optional
Architecture: %s
Maintainer: Missivum <missivum@brackwater.example>
Installed-Size: %d
Depends: adduser, ca-certificates
Recommends: chromium, fonts-liberation
Description: HTML email signatures that survive every mail client
 Fills signature templates from a staff directory, checks them for each mail
 client, and brings them to desks, mail hosts and mail servers.
`, version, runtime.GOARCH, size>>10)
	list := []entry{{"/control", 0o644, []byte(about)}, {"/md5sums", 0o644, []byte(sums.String())},
		{"/conffiles", 0o644, []byte(settingsFile + "\n")}}
	for _, script := range []string{"postinst", "prerm", "postrm"} {
		text, err := files.ReadFile("files/" + script)
		if err != nil {
			return nil, err
		}
		list = append(list, entry{"/" + script, 0o755, text})
	}
	return list, nil
}

// archive packs files, and the folders above them, as root's.
func archive(list []entry, now time.Time) ([]byte, error) {
	var b bytes.Buffer
	zip := gzip.NewWriter(&b)
	out := tar.NewWriter(zip)
	made := map[string]bool{}
	var folder func(name string) error
	folder = func(name string) error {
		if name == "/" || made[name] {
			return nil
		}
		made[name] = true
		return errors.Join(folder(path.Dir(name)), out.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: "." + name + "/", Mode: 0o755,
			Uname: "root", Gname: "root", ModTime: now}))
	}
	for _, e := range list {
		if err := folder(path.Dir(e.name)); err != nil {
			return nil, err
		}
		header := &tar.Header{Typeflag: tar.TypeReg, Name: "." + e.name, Mode: e.mode, Size: int64(len(e.data)), Uname: "root", Gname: "root",
			ModTime: now}
		if err := out.WriteHeader(header); err != nil {
			return nil, err
		}
		if _, err := out.Write(e.data); err != nil {
			return nil, err
		}
	}
	err := errors.Join(out.Close(), zip.Close())
	return b.Bytes(), err
}

// write writes the package with its three members in their order.
func write(name string, about, installed []entry, now time.Time) error {
	control, err := archive(about, now)
	if err != nil {
		return err
	}
	data, err := archive(installed, now)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	out := ar.NewWriter(&b)
	if err := out.WriteGlobalHeader(); err != nil {
		return err
	}
	for _, m := range []entry{{"debian-binary", 0o100644, []byte("2.0\n")}, {"control.tar.gz", 0o100644, control},
		{"data.tar.gz", 0o100644, data}} {
		if err := out.WriteHeader(&ar.Header{Name: m.name, Size: int64(len(m.data)), Mode: m.mode, ModTime: now}); err != nil {
			return err
		}
		if _, err := out.Write(m.data); err != nil {
			return err
		}
	}
	return os.WriteFile(name, b.Bytes(), 0o644)
}
