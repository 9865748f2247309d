package auth

import (
	"cmp"
	"crypto/x509"
	"net/http"

	"github.com/wicketway/wicketway/exchange"
)

// Certificate takes the client certificate of the connection for the caller (mutual TLS), from
// chains that the server has verified alone: its tls.Config has ClientAuth
// RequireAndVerifyClientCert or VerifyClientCertIfGiven, and ClientCAs. Caller says whose a
// certificate is, and reports whether it is accepted. Behind a proxy that ends TLS there is none.
func Certificate(caller func(*x509.Certificate) (exchange.Identity, bool), settings Settings) exchange.Authenticator {
	c := &certificate{guard: newGuard("certificate", settings), caller: caller}
	if caller == nil {
		c.wrongf("the function that names callers is nil")
	}
	return c
}

type certificate struct {
	guard
	caller func(*x509.Certificate) (exchange.Identity, bool)
}

func (c *certificate) Scheme() exchange.Scheme {
	return exchange.Scheme{
		Name:   "certificate",
		Type:   "mutualTLS",
		Raises: c.raises(ErrCertificateMissing, ErrCertificateRejected),
	}
}

func (c *certificate) Sent(r *http.Request) bool {
	return r.TLS != nil && len(r.TLS.PeerCertificates) > 0
}

func (c *certificate) Authenticate(r *http.Request) (*exchange.Identity, error) {
	if !c.Sent(r) {
		return nil, c.refuse(ErrCertificateMissing, "Connect with a client certificate.", c.Challenge(nil), nil)
	}
	if len(r.TLS.VerifiedChains) == 0 || len(r.TLS.VerifiedChains[0]) == 0 {
		return nil, c.refuse(ErrCertificateRejected, "The certificate has not been verified.", c.Challenge(nil), nil)
	}
	leaf := r.TLS.VerifiedChains[0][0]
	caller, ok := c.caller(leaf)
	if !ok || caller.Subject == "" {
		return nil, c.refuse(ErrCertificateRejected, "The certificate names no caller that is known.", c.Challenge(nil), nil)
	}
	caller.Issuer, caller.Proof = cmp.Or(caller.Issuer, c.name), leaf
	return c.account(r, &caller)
}

// Challenge has a scheme of no standard, since what is asked for is in TLS.
func (c *certificate) Challenge([]string) string { return "Certificate realm=" + quoted(c.Realm) }
