package auth

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/bcrypt"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// A StoredPassword is the record of a name and its password.
type StoredPassword struct {
	Hash    string // as HashPassword makes it
	Subject string // "": the name
	Scopes  []string
}

// passwordCost is that of bcrypt: about 70 ms on the machine of the time of writing.
const passwordCost = 10

// longestPassword is all that bcrypt reads.
const longestPassword = 72

// HashPassword makes the hash of a password, by bcrypt. A password has at most 72 bytes, since bcrypt
// reads no more: [Basic] refuses longer ones, and so does HashPassword.
func HashPassword(password string) (string, error) {
	if len(password) > longestPassword {
		return "", fmt.Errorf(
			"auth.HashPassword: the password has %d bytes, and at most %d count", len(password), longestPassword,
		)
	}
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
// password, where all hashes are made by [HashPassword].
//
// Comparing takes a processor for a while, so at most half of them compare passwords at a time, and
// one at least. From one network (wicketway.Client.Network) at most 4 requests compare or wait, and
// 100 in all; others are refused with 503. A pair that was right is remembered, under a keyed hash, for
// as long as the same hash is found for the name: it needs no comparison, so that guesses of others do
// not keep its owner out.
//
// Use it over TLS alone: the password comes with every request.
func Basic(
	find func(ctx context.Context, name string) (StoredPassword, bool, error), settings Settings,
) exchange.Authenticator {
	b := &basic{guard: newGuard("basic", settings), find: find, nobody: nobodysPassword()}
	b.compares.free = make(chan struct{}, max(runtime.GOMAXPROCS(0)/2, 1))
	rand.Read(b.secret[:])
	if find == nil {
		b.wrongf("the function that finds passwords is nil")
	}
	b.memory = newMemory[string](b.Remember)
	return b
}

type basic struct {
	guard
	find     func(ctx context.Context, name string) (StoredPassword, bool, error)
	nobody   string   // a hash
	secret   [32]byte // of the keyed hash
	memory   *memory[string]
	compares compares
}

// Compares are the requests whose passwords are being compared, or wait for that.
type compares struct {
	free chan struct{} // holds those that are

	mu  sync.Mutex
	all int
	by  map[netip.Prefix]int
}

const (
	mostComparing   = 100
	mostFromNetwork = 4
)

// enter lets a request in, unless there are too many.
func (c *compares) enter(from netip.Prefix) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all >= mostComparing || c.by[from] >= mostFromNetwork {
		return false
	}
	if c.by == nil {
		c.by = map[netip.Prefix]int{}
	}
	c.all++
	c.by[from]++
	return true
}

func (c *compares) leave(from netip.Prefix) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all--
	if c.by[from]--; c.by[from] == 0 {
		delete(c.by, from)
	}
}

func (b *basic) Scheme() exchange.Scheme {
	return exchange.Scheme{Name: "basic", Type: "http", Scheme: "Basic",
		Raises: b.raises(ErrPasswordMissing, ErrPasswordRejected, problem.Overloaded)}
}

func (b *basic) Sent(r *http.Request) bool { return sentBy(r, "Basic") }

func (b *basic) Authenticate(r *http.Request) (*exchange.Identity, error) {
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
	same, err := b.matches(r, name, password, stored.Hash)
	if err != nil {
		return nil, err
	}
	if !there || !same {
		return nil, b.reject(ErrPasswordRejected, "Wrong name or password.")
	}
	if stored.Subject == "" {
		stored.Subject = name
	}
	return b.account(r, &exchange.Identity{Subject: stored.Subject, Issuer: b.name, Scopes: stored.Scopes, Proof: name})
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
	return name, password, ok && name != "" && !strings.ContainsFunc(name, control) &&
		!strings.ContainsFunc(password, control)
}

// matches compares a password with a hash, unless the pair was right before.
func (b *basic) matches(r *http.Request, name, password, hash string) (bool, error) {
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
	from := exchange.ClientOf(r).Network()
	if !b.compares.enter(from) {
		return false, problem.Overloaded.New("Too many passwords are being compared.").RetryAfter(time.Second)
	}
	defer b.compares.leave(from)
	select {
	case b.compares.free <- struct{}{}:
	case <-r.Context().Done():
		return false, r.Context().Err()
	}
	defer func() { <-b.compares.free }()
	if bcrypt.CompareHashAndPassword([]byte(hash), []byte(password)) != nil || len(password) > longestPassword {
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
	return "Basic realm=" + quoted(b.Realm) + `, charset="UTF-8"`
}
