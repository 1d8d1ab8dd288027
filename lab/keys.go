package lab

import (
	"crypto"
	"encoding/pem"
	"os"

	"golang.org/x/crypto/ssh"
)

// keepKey writes a private key in OpenSSH's format, for its owner alone.
func keepKey(file string, key crypto.PrivateKey) error {
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		return err
	}
	return os.WriteFile(file, pem.EncodeToMemory(block), 0o600)
}
