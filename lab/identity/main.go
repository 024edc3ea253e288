// Command identity stands in for an organisation's identity provider: it speaks OpenID Connect (code flow, PKCE, discovery)
// and lets whoever opens its page be one of a few made-up people. It keeps nothing, and is for tests and for trying out on
// one machine.
//
//	go run ./lab/identity --listen 127.0.0.1:9998 --back http://127.0.0.1:8425/api/v1/sign-in/provider/return
package main

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"html/template"
	"log"
	"net"
	"net/http"
	"strings"

	"github.com/zitadel/oidc/v3/pkg/op"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:9998", "address to listen on")
	back := flag.String("back", "http://127.0.0.1:8425/api/v1/sign-in/provider/return",
		"addresses that it sends browsers back to, with commas between")
	flag.Parse()
	if err := run(*listen, strings.Split(*back, ",")); err != nil {
		log.Fatal(err)
	}
}

func run(listen string, back []string) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	issuer := "http://" + l.Addr().String()
	s, err := newStorage(back)
	if err != nil {
		return err
	}
	provider, err := op.NewProvider(&op.Config{CryptoKey: sha256.Sum256([]byte("a stand-in keeps no secrets")),
		CodeMethodS256: true, AuthMethodPost: true},
		s, op.StaticIssuer(issuer), op.WithAllowInsecure())
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /who", func(w http.ResponseWriter, r *http.Request) {
		if err := page.Execute(w, map[string]any{"ID": r.URL.Query().Get("id"), "People": people}); err != nil {
			log.Print(err)
		}
	})
	entered := op.NewIssuerInterceptor(provider.IssuerFromRequest).HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := r.PostFormValue("id")
		if err := s.enter(id, r.PostFormValue("person")); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		http.Redirect(w, r, op.AuthCallbackURL(provider)(r.Context(), id), http.StatusSeeOther)
	})
	mux.HandleFunc("POST /who", entered)
	mux.Handle("/", provider)
	fmt.Printf("The identity provider is at %s\n", issuer)
	return http.Serve(l, mux)
}

var page = template.Must(template.New("who").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Brackwater identity</title></head>
<body style="font: 16px sans-serif; max-width: 30em; margin: 4em auto">
<h1>Brackwater identity</h1>
<p>This stands in for an identity provider. Who are you?</p>
{{ range .People }}<form method="post" action="/who"><input type="hidden" name="id" value="{{ $.ID }}">
<button name="person" value="{{ .ID }}">{{ .Name }}</button> {{ .Groups }}</form>
{{ end }}</body></html>
`))
