package wire

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
)

// Pin names a certificate's public key, as the service prints it and clients keep
// it: the SHA-256 of its SubjectPublicKeyInfo (RFC 7469 section 2.4).
func Pin(cert *x509.Certificate) string {
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}
