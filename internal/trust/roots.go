package trust

import (
	"crypto/x509"
	"fmt"
	"os"
)

// Roots are the certificates of a PEM file, which a server's own has to lead to; nil,
// which stands for those that the machine trusts, for no file.
func Roots(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("ca_file: %w", err)
	}
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("ca_file %s holds no PEM certificate", file)
	}
	return roots, nil
}
