package sources

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// directory is a real slapd with made-up people.
type directory struct {
	t         testing.TB
	folder    string
	authority string // PEM
	secure    string // ldaps address
	plain     string // ldap address, on which StartTLS is asked for
	process   *exec.Cmd
	conn      *ldap.Conn // bound as the administrator
}

const (
	suffix   = "dc=brackwater,dc=example"
	admin    = "cn=admin," + suffix
	reader   = "cn=reader," + suffix
	limited  = "cn=limited," + suffix
	password = "a long password"
)

// made says how many people are where: below ou=crew, and below ou=shore, which is the subtree that is removed.
const (
	crewCount  = 8_400
	shoreCount = 1_600
)

// authority makes a certificate authority, and a server certificate by it in files.
func authority(t testing.TB, folder string) (authorityPEM string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Brackwater authority"},
		NotBefore: time.Now().Add(-time.Hour),
		NotAfter:  time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	rootDER, err := x509.CreateCertificate(rand.Reader, root, root, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "localhost"},
		NotBefore: root.NotBefore, NotAfter: root.NotAfter,
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	leafKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	leafDER, err := x509.CreateCertificate(rand.Reader, leaf, root, &leafKey.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(leafKey)
	if err != nil {
		t.Fatal(err)
	}
	authorityPEM = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: rootDER}))
	for name, data := range map[string][]byte{"root.pem": []byte(authorityPEM),
		"leaf.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leafDER}),
		"key.pem":  pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER})} {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return authorityPEM
}

// freePort finds a port of loopback.
func freePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// photo is a small photo.
func photo(t testing.TB, shade uint8) []byte {
	t.Helper()
	m := image.NewRGBA(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		m.Set(i%64, i/64, color.RGBA{shade, uint8(i / 64 * 4), uint8(i % 64 * 4), 255})
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, m, nil); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// entries are the made-up directory as LDIF: crew and shore, a few with photos, some without a mail address, some with that of
// another, half of the names Cyrillic or Greek; groups of all three ways; a referral.
func entries(t testing.TB, w *strings.Builder) {
	add := func(lines ...string) { w.WriteString(strings.Join(lines, "\n") + "\n\n") }
	coded := func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }
	add("dn: "+suffix, "objectClass: domain", "dc: brackwater")
	for _, ou := range []string{"crew", "shore", "groups"} {
		add("dn: ou="+ou+","+suffix, "objectClass: organizationalUnit", "ou: "+ou)
	}
	for _, dn := range []string{reader, limited} {
		add("dn: "+dn, "objectClass: applicationProcess", "objectClass: simpleSecurityObject", "cn: "+
			strings.TrimPrefix(strings.Split(dn, ",")[0], "cn="),
			"userPassword: "+password)
	}
	names := []string{"Maren Lind", "Марина Линд", "Ελένη Λινδ", "Åke Tångring"}
	for i := range crewCount + shoreCount {
		ou := "crew"
		if i >= crewCount {
			ou = "shore"
		}
		mail := fmt.Sprintf("mail: p%d@brackwater.example", i)
		switch {
		case i%1000 == 7:
			mail = "description: without a mail address"
		case i%1000 == 9:
			mail = fmt.Sprintf("mail: P%d@brackwater.example", i-1) // somebody else's
		}
		lines := []string{fmt.Sprintf("dn: uid=p%d,ou=%s,%s", i, ou, suffix), "objectClass: inetOrgPerson", fmt.Sprintf("uid: p%d", i),
			"cn:: " + coded(fmt.Sprintf("%s %d", names[i%4], i)), "sn: Lind", mail, "title: Cook",
			fmt.Sprintf("telephoneNumber: +44 1632 96%04d", i),
			"l: Havsund", "employeeNumber: " + fmt.Sprint(i), "carLicense: BW " + fmt.Sprint(i)}
		if i%500 == 3 {
			lines = append(lines, "jpegPhoto:: "+base64.StdEncoding.EncodeToString(photo(t, uint8(i/50))))
		}
		add(lines...)
	}
	add("dn: cn=bridge,ou=groups,"+suffix, "objectClass: groupOfNames", "cn: bridge", "member: uid=p1,ou=crew,"+suffix,
		"member: uid=p2,ou=crew,"+suffix)
	add("dn: cn=all,ou=groups,"+suffix, "objectClass: groupOfNames", "cn: all", "member: cn=bridge,ou=groups,"+suffix)
	add("dn: cn=watch,ou=groups,"+suffix, "objectClass: posixGroup", "cn: watch", "gidNumber: 7", "memberUid: p3")
	add("dn: cn=elsewhere,ou=crew,"+suffix, "objectClass: referral", "objectClass: extensibleObject", "cn: elsewhere",
		"ref: ldap://other.example/ou=people,dc=other,dc=example")
}

// startDirectory starts a slapd with 10,000 people.
func startDirectory(t testing.TB) *directory {
	t.Helper()
	if _, err := exec.LookPath("slapd"); err != nil {
		if _, err := os.Stat("/usr/sbin/slapd"); err != nil {
			t.Fatal("slapd is not there; scripts/setup.sh installs it")
		}
	}
	folder, err := os.MkdirTemp("", "missivum-slapd-") // a short path, for sockets
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	d := &directory{t: t, folder: folder, authority: authority(t, folder)}
	config := strings.NewReplacer("FOLDER", folder, "SUFFIX", suffix, "ADMIN", admin, "LIMITED", limited, "PASSWORD", password).Replace(`
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include /etc/ldap/schema/nis.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload syncprov
TLSCACertificateFile FOLDER/root.pem
TLSCertificateFile FOLDER/leaf.pem
TLSCertificateKeyFile FOLDER/key.pem
security simple_bind=128
sizelimit 500
database mdb
suffix "SUFFIX"
rootdn "ADMIN"
rootpw "PASSWORD"
directory FOLDER/data
maxsize 1073741824
limits dn.exact="LIMITED" size.soft=100 size.hard=100 size.prtotal=100
limits users size.soft=unlimited size.hard=unlimited size.prtotal=unlimited
index objectClass,uid,entryCSN,entryUUID eq
access to attrs=userPassword by anonymous auth by * none
access to * by users read by * none
overlay syncprov
syncprov-checkpoint 100 10
syncprov-sessionlog 1000
`)
	var text strings.Builder
	entries(t, &text)
	for name, content := range map[string]string{"slapd.conf": config, "people.ldif": text.String()} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(folder, "data"), 0o700); err != nil {
		t.Fatal(err)
	}
	load := exec.Command("/usr/sbin/slapadd", "-q", "-w", "-f", filepath.Join(folder, "slapd.conf"), "-l",
		filepath.Join(folder, "people.ldif"))
	if out, err := load.CombinedOutput(); err != nil {
		t.Fatalf("slapadd: %v\n%s", err, out)
	}
	d.secure, d.plain = fmt.Sprintf("ldaps://localhost:%d", freePort(t)), fmt.Sprintf("ldap://localhost:%d", freePort(t))
	d.start()
	t.Cleanup(d.stop)
	return d
}

// start starts the process, and waits until it answers.
func (d *directory) start() {
	d.t.Helper()
	listen := strings.ReplaceAll(d.secure+" "+d.plain, "localhost", "127.0.0.1")
	d.process = exec.Command("/usr/sbin/slapd", "-f", filepath.Join(d.folder, "slapd.conf"), "-h", listen, "-d", "0")
	if err := d.process.Start(); err != nil {
		d.t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(d.authority))
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(30 * time.Millisecond) {
		conn, err := ldap.DialURL(d.secure, ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool, ServerName: "localhost"}))
		if err == nil {
			if err := conn.Bind(admin, password); err != nil {
				d.t.Fatal(err)
			}
			d.conn = conn
			return
		}
		if time.Now().After(end) {
			d.t.Fatal(err)
		}
	}
}

// stop stops the process.
func (d *directory) stop() {
	if d.conn != nil {
		d.conn.Close()
	}
	if d.process != nil && d.process.Process != nil {
		d.process.Process.Kill()
		d.process.Wait() //nolint:errcheck // it was killed
	}
}

// change sets an attribute of people.
func (d *directory) change(from, to int, attribute, value string) {
	d.t.Helper()
	for i := from; i < to; i++ {
		request := ldap.NewModifyRequest(fmt.Sprintf("uid=p%d,ou=crew,%s", i, suffix), nil)
		request.Replace(attribute, []string{value})
		if err := d.conn.Modify(request); err != nil {
			d.t.Fatal(err)
		}
	}
}

// remove removes an entry.
func (d *directory) remove(dn string) {
	d.t.Helper()
	if err := d.conn.Del(ldap.NewDelRequest(dn, nil)); err != nil {
		d.t.Fatal(err)
	}
}

// pemOf is a certificate as PEM.
func pemOf(der []byte) []byte { return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}) }
