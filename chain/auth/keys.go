package auth

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/MicahParks/jwkset"
	"github.com/go-json-experiment/json"
	"github.com/golang-jwt/jwt/v5"
)

// The algorithms that tokens can be signed by (RFC 7518, 3.1 and RFC 8037, 3.1). None is ever
// taken from a token alone: each key is for one.
var algorithms = []string{"HS256", "HS384", "HS512", "RS256", "PS256", "ES256", "EdDSA"}

// Keys say which tokens are trusted: the algorithm and the key for each.
type Keys struct {
	fixed  []*trusted
	remote []*KeySet
	wrong  []error
}

// A trusted key verifies tokens of one algorithm.
type trusted struct {
	algorithm string
	method    jwt.SigningMethod
	public    any // or the secret
	private   any // or the secret; nil: it verifies only
	kid       string
	issuer    string
	gone      atomic.Bool // it is trusted no more
}

// HS256, HS384 and HS512 trust tokens signed with a shared secret (RFC 7518, 3.2), which must
// have 32, 48 or 64 bytes at least.
func HS256(secret []byte) Keys { return Trust("HS256", secret) }

// HS384 is as [HS256].
func HS384(secret []byte) Keys { return Trust("HS384", secret) }

// HS512 is as [HS256].
func HS512(secret []byte) Keys { return Trust("HS512", secret) }

// Trust trusts tokens that are signed by an algorithm: HS256, HS384, HS512, RS256, PS256, ES256
// or EdDSA. The key is the secret, or a public or private key of package crypto/rsa,
// crypto/ecdsa or crypto/ed25519; a private one can [Issue] tokens as well.
func Trust(algorithm string, key any) Keys {
	k, err := newTrusted(algorithm, key)
	if err != nil {
		return Keys{wrong: []error{err}}
	}
	return Keys{fixed: []*trusted{k}}
}

// PEM is [Trust] for a key in PEM: PUBLIC KEY, PRIVATE KEY, RSA PUBLIC KEY, RSA PRIVATE KEY, EC
// PRIVATE KEY or CERTIFICATE.
func PEM(algorithm string, text []byte) Keys {
	key, err := parsePEM(text)
	if err != nil {
		return Keys{wrong: []error{fmt.Errorf("auth.PEM: %w", err)}}
	}
	return Trust(algorithm, key)
}

// JWK trusts the keys of a JWK or of a JWK set (RFC 7517), as a file has them, for the algorithms
// that are named; of a key without alg the first that fits its type counts. Keys for encryption
// are passed over.
func JWK(text []byte, algorithms ...string) Keys {
	list, err := parseJWKs(text, algorithms)
	if err != nil {
		return Keys{wrong: []error{fmt.Errorf("auth.JWK: %w", err)}}
	}
	return Keys{fixed: list}
}

// Join trusts all keys of several Keys. At most four keys for one algorithm can do without a
// name (see [Keys.Named]), since a token is tried against no more.
func Join(keys ...Keys) Keys {
	var all Keys
	for _, k := range keys {
		all.fixed = append(all.fixed, k.fixed...)
		all.remote = append(all.remote, k.remote...)
		all.wrong = append(all.wrong, k.wrong...)
	}
	return all
}

// Named gives the keys a name, which tokens have in kid (RFC 7515, 4.1.4). A token that names
// another one is not verified by them.
func (k Keys) Named(kid string) Keys {
	return k.changed(func(t *trusted) { t.kid = kid })
}

// IssuedBy trusts the keys only for tokens whose claim iss is the issuer (RFC 7519, 4.1.1). Of
// keys that are fetched the Source says so.
func (k Keys) IssuedBy(issuer string) Keys {
	for _, set := range k.remote {
		k.wrong = append(
			k.wrong,
			fmt.Errorf("auth.IssuedBy: the keys of %s are fetched: say the Issuer in their Source", set.source.Address),
		)
	}
	return k.changed(func(t *trusted) { t.issuer = issuer })
}

func (k Keys) changed(change func(*trusted)) Keys {
	fixed := make([]*trusted, len(k.fixed))
	for i, t := range k.fixed {
		own := &trusted{
			algorithm: t.algorithm,
			method:    t.method,
			public:    t.public,
			private:   t.private,
			kid:       t.kid,
			issuer:    t.issuer,
		}
		change(own)
		fixed[i] = own
	}
	k.fixed = fixed
	return k
}

func newTrusted(algorithm string, key any) (*trusted, error) {
	if !slices.Contains(algorithms, algorithm) {
		return nil, fmt.Errorf("auth: the algorithm %q is not one of %s", algorithm, strings.Join(algorithms, ", "))
	}
	if v := reflect.ValueOf(key); !v.IsValid() || v.Kind() == reflect.Pointer && v.IsNil() {
		return nil, fmt.Errorf("auth: the key for %s is nil", algorithm)
	}
	k := &trusted{algorithm: algorithm, method: jwt.GetSigningMethod(algorithm), public: key}
	if signer, ok := key.(crypto.Signer); ok {
		k.public, k.private = signer.Public(), key
	}
	if p, ok := key.(*ed25519.PrivateKey); ok && p != nil {
		k.public, k.private = p.Public(), *p
	}
	fits := false
	switch public := k.public.(type) {
	case []byte:
		least := map[string]int{"HS256": 32, "HS384": 48, "HS512": 64}[algorithm]
		if fits = least > 0; fits && len(public) < least {
			return nil, fmt.Errorf("auth.%s: the secret has %d bytes, %d at least are needed (RFC 7518, 3.2)", algorithm, len(public), least)
		}
		k.private = public
	case *rsa.PublicKey:
		if fits = algorithm == "RS256" || algorithm == "PS256"; fits && public.N.BitLen() < 2048 {
			return nil, fmt.Errorf("auth: the RSA key has %d bits, 2048 at least are needed (RFC 7518, 3.3)", public.N.BitLen())
		}
	case *ecdsa.PublicKey:
		fits = algorithm == "ES256" && public.Curve == elliptic.P256()
	case ed25519.PublicKey:
		fits = algorithm == "EdDSA"
	}
	if !fits {
		return nil, fmt.Errorf("auth: a %T is not a key for %s", key, algorithm)
	}
	return k, nil
}

func parsePEM(text []byte) (any, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errors.New("no PEM block is in the text")
	}
	switch block.Type {
	case "PUBLIC KEY":
		return x509.ParsePKIXPublicKey(block.Bytes)
	case "PRIVATE KEY":
		return x509.ParsePKCS8PrivateKey(block.Bytes)
	case "RSA PUBLIC KEY":
		return x509.ParsePKCS1PublicKey(block.Bytes)
	case "RSA PRIVATE KEY":
		return x509.ParsePKCS1PrivateKey(block.Bytes)
	case "EC PRIVATE KEY":
		return x509.ParseECPrivateKey(block.Bytes)
	case "CERTIFICATE":
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, err
		}
		return c.PublicKey, nil
	}
	return nil, fmt.Errorf("the PEM block %q holds no key", block.Type)
}

// mostKeys bounds a JWK set.
const mostKeys = 64

func parseJWKs(text []byte, allowed []string) ([]*trusted, error) {
	if len(allowed) == 0 {
		return nil, errors.New("no algorithm is named")
	}
	var set jwkset.JWKSMarshal
	if err := json.Unmarshal(text, &set); err != nil {
		return nil, err
	}
	if set.Keys == nil {
		var one jwkset.JWKMarshal
		if err := json.Unmarshal(text, &one); err != nil {
			return nil, err
		}
		set.Keys = []jwkset.JWKMarshal{one}
	}
	if len(set.Keys) > mostKeys {
		return nil, fmt.Errorf("the set has %d keys, more than %d", len(set.Keys), mostKeys)
	}
	var list []*trusted
	var errs []error
	for i, m := range set.Keys {
		if m.USE == jwkset.UseEnc ||
			m.KEYOPS != nil && !slices.Contains(m.KEYOPS, jwkset.KeyOpsVerify) && !slices.Contains(m.KEYOPS, jwkset.KeyOpsSign) {
			continue
		}
		m.X5U, m.X5C, m.X5T, m.X5TS256 = "", nil, "", "" // certificates are not asked for, nor fetched
		k, err := fromJWK(m, allowed)
		if err != nil {
			errs = append(errs, fmt.Errorf("key %d: %w", i+1, err))
			continue
		}
		if k.kid = m.KID; slices.ContainsFunc(
			list, func(o *trusted) bool { return o.kid == k.kid && o.algorithm == k.algorithm && k.kid != "" },
		) {
			errs = append(errs, fmt.Errorf("key %d: the kid %q is given twice", i+1, k.kid))
			continue
		}
		list = append(list, k)
	}
	if len(list) == 0 {
		return nil, errors.Join(
			append([]error{fmt.Errorf("no key for %s is in the set", strings.Join(allowed, ", "))}, errs...)...)
	}
	return list, nil
}

func fromJWK(m jwkset.JWKMarshal, allowed []string) (*trusted, error) {
	own, err := jwkset.NewJWKFromMarshal(m, jwkset.JWKMarshalOptions{Private: true}, jwkset.JWKValidateOptions{})
	if err != nil {
		return nil, err
	}
	if m.ALG != "" {
		if !slices.Contains(allowed, string(m.ALG)) {
			return nil, fmt.Errorf("its alg %s is not one of %s", m.ALG, strings.Join(allowed, ", "))
		}
		return newTrusted(string(m.ALG), own.Key())
	}
	for _, algorithm := range allowed {
		if k, err := newTrusted(algorithm, own.Key()); err == nil {
			return k, nil
		}
	}
	return nil, fmt.Errorf("its type %s is not one for %s", m.KTY, strings.Join(allowed, ", "))
}

// same reports whether two keys are one.
func (k *trusted) same(other *trusted) bool {
	if k.algorithm != other.algorithm || k.kid != other.kid || k.issuer != other.issuer {
		return false
	}
	if secret, ok := k.public.([]byte); ok {
		otherSecret, ok := other.public.([]byte)
		return ok && bytes.Equal(secret, otherSecret)
	}
	public, ok := k.public.(interface{ Equal(crypto.PublicKey) bool })
	return ok && public.Equal(other.public)
}

// mostTries bounds how many signatures are computed for one token.
const mostTries = 4

// tooMany says of which algorithm there are more keys without a name than are tried: the last of them
// would never verify anything.
func (k *Keys) tooMany() (wrong []error) {
	for _, algorithm := range algorithms {
		unnamed := 0
		for _, t := range k.fixed {
			if t.algorithm == algorithm && t.kid == "" {
				unnamed++
			}
		}
		if unnamed > mostTries {
			wrong = append(
				wrong,
				fmt.Errorf(
					"auth: %d keys for %s have no name, and a token is tried against %d: give them names (Named), which tokens have in kid",
					unnamed,
					algorithm,
					mostTries,
				),
			)
		}
	}
	return wrong
}

// verify finds the key that signed a text. Unknown says that no key has the name.
func (k *Keys) verify(algorithm, kid, signed string, signature []byte) (by *trusted, unknown bool) {
	tries, named := 0, kid == ""
	try := func(list []*trusted) *trusted {
		for _, key := range list {
			if kid != "" && key.kid != "" && key.kid != kid || key.algorithm != algorithm || key.gone.Load() {
				named = named || key.kid == kid
				continue
			}
			named = true
			if tries++; tries > mostTries {
				return nil
			}
			if key.method.Verify(signed, signature, key.public) == nil {
				return key
			}
		}
		return nil
	}
	if by = try(k.fixed); by != nil {
		return by, false
	}
	for _, set := range k.remote {
		if by = try(set.keys()); by != nil {
			return by, false
		}
	}
	return nil, !named
}

// signer is the first key that can sign; nil where there is none.
func (k *Keys) signer() *trusted {
	for _, key := range k.fixed {
		if key.private != nil {
			return key
		}
	}
	return nil
}
