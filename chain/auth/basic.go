package auth

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/bcrypt"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

// A StoredPassword is what is kept of a name and its password.
type StoredPassword struct {
	Hash    string // as HashPassword makes it
	Subject string // "": the name
	Scopes  []string
}

// passwordCost is that of bcrypt: about 70 ms on the machine of the time of writing.
const passwordCost = 10

// HashPassword makes the hash of a password, by bcrypt. A password has at most 72 bytes.
func HashPassword(password string) (string, error) {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), passwordCost)
	return string(hash), err
}

// nobodysPassword is compared with where there is no such name, so that it takes as long.
var nobodysPassword = sync.OnceValue(func() string {
	hash, _ := HashPassword("a password that nobody has") // it is short enough
	return hash
})

// Basic asks for a name and a password (RFC 7617). Find looks up what is kept of a name, and
// reports whether there is one; a name that is not there takes as long to refuse as a wrong
// password, where all hashes are made by [HashPassword]. No more passwords are compared at a time than there are processors; a request that
// finds a hundred others waiting is refused with 503. A pair that was right is remembered, under a
// keyed hash, for as long as the same hash is found for the name.
//
// Use it over TLS alone: the password comes with every request.
func Basic(find func(ctx context.Context, name string) (StoredPassword, bool, error), how ...Option) wicketway.Authenticator {
	b := &basic{guard: newGuard("basic", how), find: find, comparing: make(chan struct{}, runtime.GOMAXPROCS(0)),
		waiting: make(chan struct{}, 100), nobody: nobodysPassword()}
	rand.Read(b.secret[:])
	if find == nil {
		b.wrongf("the function that finds passwords is nil")
	}
	b.memory = newMemory[string](b.remember)
	return b
}

type basic struct {
	guard
	find      func(ctx context.Context, name string) (StoredPassword, bool, error)
	nobody    string   // a hash
	secret    [32]byte // of the keyed hash
	memory    *memory[string]
	comparing chan struct{}
	waiting   chan struct{}
}

func (b *basic) Scheme() wicketway.Scheme {
	return wicketway.Scheme{Name: "basic", Type: "http", Scheme: "Basic",
		Raises: b.raises(ErrPasswordMissing, ErrPasswordRejected, problem.Overloaded)}
}

func (b *basic) Sent(r *http.Request) bool { return sentBy(r, "Basic") }

func (b *basic) Authenticate(r *http.Request) (*wicketway.Identity, error) {
	if !b.Sent(r) {
		return nil, b.reject(ErrPasswordMissing, "Send a name and a password in the field Authorization: Basic.")
	}
	name, password, ok := readBasic(r.Header["Authorization"])
	if !ok {
		return nil, b.reject(ErrPasswordRejected, "The field Authorization cannot be read (RFC 7617, 2).")
	}
	stored, there, err := b.find(r.Context(), name)
	if err != nil {
		return nil, err
	}
	if !there {
		stored = StoredPassword{Hash: b.nobody}
	}
	same, err := b.matches(r.Context(), name, password, stored.Hash)
	if err != nil {
		return nil, err
	}
	if !there || !same {
		return nil, b.reject(ErrPasswordRejected, "Name and password do not go together.")
	}
	if stored.Subject == "" {
		stored.Subject = name
	}
	return b.account(r, &wicketway.Identity{Subject: stored.Subject, Issuer: b.name, Scopes: stored.Scopes, Proof: name})
}

// readBasic reads the field (RFC 7617, 2): a name has no colon, and neither has control
// characters.
func readBasic(fields []string) (name, password string, ok bool) {
	if len(fields) != 1 || len(fields[0]) > 1024 {
		return "", "", false
	}
	text, err := base64.StdEncoding.DecodeString(strings.Trim(fields[0][len("Basic"):], " "))
	if err != nil || !utf8.Valid(text) {
		return "", "", false
	}
	name, password, ok = strings.Cut(string(text), ":")
	control := func(c rune) bool { return c < ' ' || c == 0x7f }
	return name, password, ok && name != "" && !strings.ContainsFunc(name, control) && !strings.ContainsFunc(password, control)
}

// matches compares a password with a hash, unless the pair was right before.
func (b *basic) matches(ctx context.Context, name, password, hash string) (bool, error) {
	mac := hmac.New(sha256.New, b.secret[:])
	mac.Write([]byte(name + "\x00" + password))
	var key [32]byte
	mac.Sum(key[:0])
	if known := b.memory.find(&key); known != nil {
		if *known == hash {
			return true, nil
		}
		b.memory.forget(&key) // the password has been changed
	}
	select {
	case b.waiting <- struct{}{}:
	default:
		return false, problem.Overloaded.New("Too many passwords are being compared.").RetryAfter(time.Second)
	}
	defer func() { <-b.waiting }()
	select {
	case b.comparing <- struct{}{}:
	case <-ctx.Done():
		return false, ctx.Err()
	}
	defer func() { <-b.comparing }()
	if bcrypt.CompareHashAndPassword([]byte(hash), []byte(password)) != nil {
		return false, nil
	}
	if hash != b.nobody {
		b.memory.keep(&key, hash)
	}
	return true, nil
}

func (b *basic) reject(kind *problem.Kind, detail string) error {
	return b.refuse(kind, detail, b.Challenge(nil), nil)
}

func (b *basic) Challenge([]string) string {
	return "Basic realm=" + quoted(b.realm) + `, charset="UTF-8"`
}
