package conformance

import (
	"crypto/tls"
	"crypto/x509"
	"os"
)

func tlsConfig(caFile string) (*tls.Config, error) {
	pool := x509.NewCertPool()
	if caFile != "" {
		pem, err := os.ReadFile(caFile)
		if err != nil {
			return nil, err
		}
		pool.AppendCertsFromPEM(pem)
	}
	return &tls.Config{RootCAs: pool, ServerName: "127.0.0.1"}, nil
}
