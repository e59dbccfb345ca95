package registry

import (
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"strings"
)

// digest returns the SHA-512 that an integrity text names.
func digest(integrity string) ([]byte, error) {
	for _, word := range strings.Fields(integrity) {
		if text, ok := strings.CutPrefix(word, "sha512-"); ok {
			sum, err := base64.StdEncoding.DecodeString(text)
			if err == nil && len(sum) == sha512.Size {
				return sum, nil
			}
		}
	}
	return nil, errors.New("the registry's document names no SHA-512 for the package")
}

// short returns the beginning of the digest, for names of files.
func short(integrity string) string {
	sum, err := digest(integrity)
	if err != nil {
		return "none"
	}
	return hex.EncodeToString(sum[:6])
}
