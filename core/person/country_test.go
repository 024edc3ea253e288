package person

import "testing"

func TestCountryCode(t *testing.T) {
	for name, code := range map[string]string{"Deutschland": "DE", "Germany": "DE", "Allemagne": "DE", "España": "ES", "Sverige": "SE",
		"United Kingdom": "GB", "UK": "GB", "Vereinigtes Königreich": "GB", "Polska": "PL", "Nederland": "NL", "Italia": "IT", "ÖSTERREICH": "AT",
		"se": "SE", "Schweiz": "CH", "Suisse": "CH", "USA": "US", "Atlantis": "", "": "", "XX": ""} {
		if got := CountryCode(name); got != code {
			t.Errorf("%q is %q, want %q", name, got, code)
		}
	}
}
