// Command acme stands in for a certificate authority that speaks ACME (RFC 8555). It gives a certificate for any host whose
// challenge by HTTP it can read at one address, and checks no signatures of requests. Its own certificate is written to a file.
//
//	go run ./lab/acme --listen 127.0.0.1:9997 --http 127.0.0.1:8080 --authority authority.pem
package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"flag"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:9997", "address to listen on")
	plain := flag.String("http", "127.0.0.1:80", "where challenges are read, whatever the host")
	file := flag.String("authority", "authority.pem", "file for the authority's certificate")
	flag.Parse()
	a, err := newAuthority(*plain, *file)
	if err != nil {
		log.Fatal(err)
	}
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		log.Fatal(err)
	}
	a.base = "http://" + l.Addr().String()
	fmt.Printf("The authority is at %s\n", a.base+"/directory")
	log.Fatal(http.Serve(l, a.routes()))
}

// authority is the authority with the one order that it has at a time.
type authority struct {
	base, plain string
	key         *ecdsa.PrivateKey
	certificate *x509.Certificate

	mu     sync.Mutex
	serial int64
	host   string
	valid  bool
	issued []byte
}

func newAuthority(plain, file string) (*authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "A stand-in for an authority"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(48 * time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	certificate, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return &authority{plain: plain, key: key, certificate: certificate, serial: 1},
		os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644)
}

// token is the token of every challenge.
const token = "one-token-for-all"

func (a *authority) routes() http.Handler {
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, status int, value any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(value)
	}
	handle := func(path string, do func(w http.ResponseWriter, payload []byte)) {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Replay-Nonce", rand.Text())
			var signed struct{ Payload string }
			if body, err := io.ReadAll(r.Body); err == nil && len(body) > 0 {
				if err := json.Unmarshal(body, &signed); err != nil {
					http.Error(w, err.Error(), http.StatusBadRequest)
					return
				}
			}
			payload, err := base64.RawURLEncoding.DecodeString(signed.Payload)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
			a.mu.Lock()
			defer a.mu.Unlock()
			do(w, payload)
		})
	}
	order := func() map[string]any {
		status := "pending"
		switch {
		case a.issued != nil:
			status = "valid"
		case a.valid:
			status = "ready"
		}
		return map[string]any{"status": status, "identifiers": []any{map[string]string{"type": "dns", "value": a.host}},
			"authorizations": []string{a.base + "/authorization"}, "finalize": a.base + "/finalize", "certificate": a.base + "/certificate"}
	}
	challenge := func() map[string]any {
		status := "pending"
		if a.valid {
			status = "valid"
		}
		return map[string]any{"type": "http-01", "url": a.base + "/challenge", "token": token, "status": status}
	}
	handle("/directory", func(w http.ResponseWriter, _ []byte) {
		answer(w, 200, map[string]string{"newNonce": a.base + "/nonce", "newAccount": a.base + "/account", "newOrder": a.base + "/order-new",
			"revokeCert": a.base + "/revoke", "keyChange": a.base + "/key"})
	})
	handle("/nonce", func(w http.ResponseWriter, _ []byte) { w.WriteHeader(http.StatusNoContent) })
	handle("/account", func(w http.ResponseWriter, _ []byte) {
		w.Header().Set("Location", a.base+"/account/1")
		answer(w, 201, map[string]any{"status": "valid"})
	})
	handle("/order-new", func(w http.ResponseWriter, payload []byte) {
		var in struct{ Identifiers []struct{ Value string } }
		if err := json.Unmarshal(payload, &in); err != nil || len(in.Identifiers) != 1 {
			http.Error(w, "one host", http.StatusBadRequest)
			return
		}
		a.host, a.valid, a.issued = in.Identifiers[0].Value, false, nil
		w.Header().Set("Location", a.base+"/order")
		answer(w, 201, order())
	})
	handle("/order", func(w http.ResponseWriter, _ []byte) {
		w.Header().Set("Location", a.base+"/order")
		answer(w, 200, order())
	})
	handle("/authorization", func(w http.ResponseWriter, _ []byte) {
		c := challenge()
		answer(w, 200, map[string]any{"status": c["status"], "identifier": map[string]string{"type": "dns", "value": a.host},
			"challenges": []any{c}})
	})
	handle("/challenge", func(w http.ResponseWriter, _ []byte) {
		a.valid = a.proved()
		answer(w, 200, challenge())
	})
	handle("/finalize", func(w http.ResponseWriter, payload []byte) {
		if err := a.issue(payload); err != nil {
			http.Error(w, err.Error(), http.StatusForbidden)
			return
		}
		w.Header().Set("Location", a.base+"/order")
		answer(w, 200, order())
	})
	handle("/certificate", func(w http.ResponseWriter, _ []byte) {
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		w.Write(a.issued)
	})
	return mux
}

// proved reads the challenge where the host answers by HTTP.
func (a *authority) proved() bool {
	request, err := http.NewRequest("GET", "http://"+a.plain+"/.well-known/acme-challenge/"+token, nil)
	if err != nil {
		return false
	}
	request.Host = a.host
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return false
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 4096))
	return err == nil && answer.StatusCode == 200 && strings.HasPrefix(string(text), token+".")
}

// issue makes the certificate that is asked for.
func (a *authority) issue(payload []byte) error {
	if !a.valid {
		return fmt.Errorf("%s has not proved itself", a.host)
	}
	var in struct{ CSR string }
	if err := json.Unmarshal(payload, &in); err != nil {
		return err
	}
	der, err := base64.RawURLEncoding.DecodeString(in.CSR)
	if err != nil {
		return err
	}
	asked, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return err
	}
	a.serial++
	template := &x509.Certificate{SerialNumber: big.NewInt(a.serial), DNSNames: []string{a.host}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(40 * time.Hour), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	made, err := x509.CreateCertificate(rand.Reader, template, a.certificate, asked.PublicKey, a.key)
	if err != nil {
		return err
	}
	a.issued = append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made}),
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.certificate.Raw})...)
	return nil
}
