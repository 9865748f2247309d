package generate_test

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/client/generate"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/internal/browser"
)

const page = `<!doctype html><title>t</title><pre id=out></pre><script type=module>
import { Client, Problem } from '/canal.mjs';
const out = document.getElementById('out');
const say = (name, value) => { out.textContent += name + ': ' + value + '\n'; };
const failed = async (name, call) => { try { await call(); say(name, 'nothing'); } catch (e) { say(name, e instanceof Problem ? [e.status, e.code, e.errors.length].join(' ') : e.name); } };
let asked = 0;
const open = new Client('');
const canal = new Client('', { token: async () => { asked++; return (await open.tokensSignIn({ body: { vessel: 'OB-1001', pin: '2200' } })).access_token; } });
say('lock', (await canal.locksFind({ lock: 'bell' })).chamber.length);
const booked = await canal.passagesBook({ body: { lock: 'bell', direction: 'up', slot: '2027-05-04T09:30:00Z', crew: 3 } });
say('booked', booked.passage);
say('changed', (await canal.passagesChange({ passage: booked.passage, 'If-Match': '*', body: { crew: 4 } })).crew);
say('list', (await canal.passagesList({ limit: 2 })).items.length);
await failed('taken', () => canal.passagesBook({ body: { lock: 'bell', direction: 'up', slot: '2027-05-04T09:30:00Z' } }));
await failed('faults', () => canal.passagesBook({ body: { lock: '', direction: 'sideways', slot: '2027-05-04T09:30:00Z' } }));
await failed('nobody', () => open.passagesList());
await failed('dots', () => open.locksFind({ lock: '..' }));
let n = 0;
for await (const level of canal.locksLevels({ lock: 'bell', back: 3, count: 3 })) n += level.metres > 0 ? 1 : 0;
say('levels', n);
say('plan', (await (await canal.locksPlan({ lock: 'bell' })).text()).includes('<svg'));
await canal.passagesCancel({ passage: booked.passage });
await failed('gone', () => canal.passagesFind({ passage: booked.passage }));
say('asked', asked);
</script>`

// The module of the demo runs in a real browser. CI demands that it does.
func TestModuleInABrowser(t *testing.T) {
	canal, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer canal.Close()
	d, err := canal.API.Contract("v2")
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			w.Header().Set("Content-Type", "text/html")
			io.WriteString(w, page)
		case "/canal.mjs":
			w.Header().Set("Content-Type", "text/javascript")
			w.Write(generate.JS(d))
		default:
			canal.API.ServeHTTP(w, r)
		}
	}))
	defer server.Close()
	tab := browser.Open(t)
	tab.Go(server.URL)
	tab.Until(`document.getElementById("out").textContent.includes("asked: ")`)
	out := tab.Text()
	want := "lock: 38.5\nbooked: 61\nchanged: 4\nlist: 2\ntaken: 409 slot-taken 0\nfaults: 422 input-invalid 2\nnobody: 401 token-missing 0\ndots: TypeError\nlevels: 3\nplan: true\ngone: 404 no-such-passage 0\nasked: 1"
	if !strings.Contains(out, want) {
		t.Errorf("want\n%s\nin\n%s", want, out)
	}
}

// Modules of awkward documents can be read, and are the same each time.
func TestModulesOfOthers(t *testing.T) {
	node, err := exec.LookPath("node")
	for name, c := range documents {
		d, readErr := yaml.Read([]byte(c.text))
		if readErr != nil {
			t.Fatal(readErr)
		}
		text := generate.JS(d)
		if string(text) != string(generate.JS(d)) {
			t.Errorf("%s: it is another one the second time", name)
		}
		if err != nil {
			continue // nothing here reads it
		}
		check := exec.Command(node, "--input-type=module", "--check")
		check.Stdin = strings.NewReader(string(text))
		if said, err := check.CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%.2000s", name, err, said)
		}
	}
}
