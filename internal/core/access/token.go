package access

import (
	"encoding/base32"
	"encoding/binary"
	"hash/crc32"
	"strings"
)

// TokenPrefix begins every token, so that scanners can find leaked ones.
const TokenPrefix = "crelvo_"

// TokenText is how the random part of a token and its check digits are written;
// in lower case.
var TokenText = base32.StdEncoding.WithPadding(base32.NoPadding)

const checkLength = 7

// TokenLength is how long a token is: the prefix, 160 bits, and the check digits.
const TokenLength = len(TokenPrefix) + 32 + checkLength

// CheckDigits gives what ends a token that begins with body: the CRC-32 (IEEE)
// of it.
func CheckDigits(body string) string {
	sum := binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(body)))
	return strings.ToLower(TokenText.EncodeToString(sum))
}

// TokenWhole tells whether a token has its check digits, so that mistakes of
// typing and copying are found before anything is looked up.
func TokenWhole(secret string) bool {
	cut := len(secret) - checkLength
	return strings.HasPrefix(secret, TokenPrefix) && cut > len(TokenPrefix) && CheckDigits(secret[:cut]) == secret[cut:]
}
