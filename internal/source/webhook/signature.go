package webhook

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"pingo/internal/source"
)

// The headers of the Standard Webhooks specification.
const (
	headerID        = "webhook-id"
	headerTime      = "webhook-timestamp"
	headerSignature = "webhook-signature"
)

const secretPrefix = "whsec_"

// decodeSecret reads a signing secret. The specification wants 24 to 64 bytes; shorter ones of 16
// are taken, too.
func decodeSecret(text string) ([]byte, error) {
	secret, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(text, secretPrefix))
	if err != nil || len(secret) < 16 {
		return nil, errors.New(
			"a signing secret cannot be read: it is whsec_ and at least 16 bytes in base64; pingo hooks secret makes one",
		)
	}
	return secret, nil
}

// sign is the signature of a request under a secret.
func sign(secret []byte, id, timestamp string, body []byte) []byte {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(id + "." + timestamp + "."))
	mac.Write(body)
	return mac.Sum(nil)
}

// Sign gives the headers of a request that is signed under the first secret.
func (h *Hook) Sign(id string, at time.Time, body []byte) (map[string]string, error) {
	if len(h.secrets) == 0 {
		return nil, errors.New("the source has no signing_secrets, so there is nothing to sign with")
	}
	timestamp := strconv.FormatInt(at.Unix(), 10)
	return map[string]string{
		headerID: id, headerTime: timestamp,
		headerSignature: "v1," + base64.StdEncoding.EncodeToString(sign(h.secrets[0], id, timestamp, body)),
	}, nil
}

// header is the first value of a header; names are in lower case.
func header(r *source.Request, name string) string {
	for key, values := range r.Header {
		if len(values) > 0 && strings.EqualFold(key, name) {
			return values[0]
		}
	}
	return ""
}

// authenticate looks who sends. It returns the rest of the path, without a secret in it, and why
// the request is not taken in, if it is not.
func (h *Hook) authenticate(r *source.Request) (path string, outcome source.Outcome, reason string) {
	path = r.Path
	if h.PathSecret != "" {
		first, rest, _ := strings.Cut(path, "/")
		if r.Secure && subtle.ConstantTimeCompare([]byte(first), []byte(h.PathSecret)) == 1 {
			return rest, "", ""
		}
	}
	if h.Basic != nil && r.Secure && basic(header(r, "authorization"), h.Basic.User, h.Basic.Password) {
		return path, "", ""
	}
	if len(h.secrets) > 0 {
		if outcome, reason = h.verify(r); reason == "" {
			return path, "", ""
		}
	}
	if h.Unsigned != "" && header(r, headerSignature) == "" {
		return path, "", ""
	}
	switch {
	case reason != "":
		return path, outcome, reason
	case !r.Secure:
		return path, source.BadSignature, "the source identifies senders by a password or secret, which needs TLS"
	}
	return path, source.BadSignature, "the sender gave no user and password or secret in the path that this source knows"
}

func basic(value, user, password string) bool {
	encoded, is := strings.CutPrefix(value, "Basic ")
	given, err := base64.StdEncoding.DecodeString(encoded)
	return is && err == nil && subtle.ConstantTimeCompare(given, []byte(user+":"+password)) == 1
}

// verify checks the signature and the time of a request.
func (h *Hook) verify(r *source.Request) (source.Outcome, string) {
	id, timestamp, given := header(r, headerID), header(r, headerTime), header(r, headerSignature)
	if id == "" || timestamp == "" || given == "" {
		return source.BadSignature, fmt.Sprintf(
			"a signed request has the headers %s, %s and %s",
			headerID,
			headerTime,
			headerSignature,
		)
	}
	seconds, err := strconv.ParseInt(timestamp, 10, 64)
	if err != nil {
		return source.BadSignature, headerTime + " is no number of seconds since 1970"
	}
	valid := false
	for _, secret := range h.secrets {
		want := sign(secret, id, timestamp, r.Body)
		for part := range strings.FieldsSeq(given) {
			version, encoded, _ := strings.Cut(part, ",")
			got, err := base64.StdEncoding.DecodeString(encoded)
			if version == "v1" && err == nil && hmac.Equal(got, want) {
				valid = true
			}
		}
	}
	if !valid {
		return source.BadSignature, "no signature of the request is right under a secret of this source: look whether both have the same secret, and nothing between changes the body"
	}
	// The time is checked last: a stranger learns nothing from it.
	if age := r.At.Sub(time.Unix(seconds, 0)); age > h.window || age < -h.window {
		return source.OutOfTime, fmt.Sprintf(
			"the request is of %s, which is more than %s from now: look at both clocks",
			time.Unix(seconds, 0).UTC().Format(time.RFC3339),
			h.window,
		)
	}
	return "", ""
}
