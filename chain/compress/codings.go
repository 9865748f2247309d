package compress

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"runtime"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
	"github.com/wicketway/wicketway/internal/writer"
)

// The levels are where more time buys little: go run ./bench -levels prints sizes and times for the
// answers of the demo; by zstd a higher one makes them larger as often as smaller.
const (
	zstdLevel  = zstd.SpeedFastest
	zstdWindow = 256 << 10
	brLevel    = 3
	brWindow   = 18 // 256 KiB
	gzipLevel  = 5
)

// An encoder takes about a megabyte, so none is kept while anybody writes or reads: a body is coded in
// pieces, each in memory and at one go. A piece ends where the body is flushed, or is this large; what is
// written at once is one by itself where it has as many bytes as wholePiece.
const (
	pieceSize  = 64 << 10
	wholePiece = 32 << 10
)

// A body is coded by this.
type body interface {
	writer.Encoder
	release() // gives back what it holds
}

// pieces code a body piece by piece. What they keep between two of them is small.
type pieces struct {
	to    io.Writer
	coder pieceCoder
	raw   *bytes.Buffer // what is not coded yet; nil: nothing
}

// A pieceCoder codes the next piece of a body, its last one perhaps. It waits for nobody.
type pieceCoder interface {
	code(into *bytes.Buffer, piece []byte, last bool)
}

// buffers are for pieces, before and after coding.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

func (p *pieces) Write(b []byte) (int, error) {
	n := len(b)
	for len(b) > 0 {
		if p.raw == nil && len(b) >= wholePiece {
			piece := b[:min(len(b), pieceSize)]
			if err := p.send(p.code(piece, false)); err != nil {
				return 0, err
			}
			b = b[len(piece):]
			continue
		}
		if p.raw == nil {
			p.raw = buffers.Get().(*bytes.Buffer)
		}
		taken := min(len(b), pieceSize-p.raw.Len())
		p.raw.Write(b[:taken])
		b = b[taken:]
		if p.raw.Len() == pieceSize {
			if err := p.Flush(); err != nil {
				return 0, err
			}
		}
	}
	return n, nil
}

// Flush codes and sends what there is.
func (p *pieces) Flush() error {
	if p.raw == nil {
		return nil
	}
	return p.end(false)
}

// Close sends the end.
func (p *pieces) Close() error { return p.end(true) }

func (p *pieces) end(last bool) error {
	raw := p.raw
	p.raw = nil
	if raw == nil {
		return p.send(p.code(nil, last))
	}
	coded := p.code(raw.Bytes(), last)
	giveBack(raw) // before anybody waits for the reader
	return p.send(coded)
}

func (p *pieces) code(piece []byte, last bool) *bytes.Buffer {
	coded := buffers.Get().(*bytes.Buffer)
	p.coder.code(coded, piece, last)
	return coded
}

func (p *pieces) send(coded *bytes.Buffer) error {
	defer giveBack(coded)
	_, err := p.to.Write(coded.Bytes())
	return err
}

func giveBack(b *bytes.Buffer) {
	b.Reset()
	buffers.Put(b)
}

// busy bounds how many pieces are coded at a time, and so how many encoders there are.
var busy = make(chan struct{}, 2*runtime.GOMAXPROCS(0))

// zstdPieces makes each piece a frame (RFC 8878, 3.1), of one encoder that all share. Its frames have
// windows of 256 KiB, where browsers take 8 MiB (3.1.1.1.2).
type zstdPieces struct{ begun bool }

var zstdEncoder = sync.OnceValue(func() *zstd.Encoder {
	z, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstdLevel), zstd.WithWindowSize(zstdWindow),
		zstd.WithEncoderConcurrency(cap(busy)), zstd.WithLowerEncoderMem(true), zstd.WithZeroFrames(true))
	if err != nil {
		panic(err) // the options are some of zstd's
	}
	return z
})

func (z *zstdPieces) code(into *bytes.Buffer, piece []byte, last bool) {
	if len(piece) == 0 && z.begun {
		return // a body of nothing is a frame, too
	}
	z.begun = true
	into.Grow(len(piece)/4 + 64)
	coded := zstdEncoder().EncodeAll(piece, into.AvailableBuffer())
	into.Write(coded)
}

// gzipPieces makes one member (RFC 1952, 2.2) of all pieces, since browsers read no further: blocks of
// DEFLATE that end at a byte, with a header and a trailer around them. Each may refer to the end of the
// piece before it.
type gzipPieces struct {
	begun   bool
	crc     uint32
	size    uint32
	earlier []byte // the end of what came before
}

// mostEarlier is how much of what came before is kept of each body.
const mostEarlier = 4 << 10

var deflaters = sync.Pool{New: func() any {
	w, err := flate.NewWriter(io.Discard, gzipLevel)
	if err != nil {
		panic(err) // the level is one of flate's
	}
	return w
}}

func (g *gzipPieces) code(into *bytes.Buffer, piece []byte, last bool) {
	if !g.begun {
		g.begun = true
		into.Write([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff}) // no name, no time, of no system
	}
	g.crc = crc32.Update(g.crc, crc32.IEEETable, piece)
	g.size += uint32(len(piece))
	busy <- struct{}{}
	w := deflaters.Get().(*flate.Writer)
	w.ResetDict(into, g.earlier) // which is nil at first: Reset would keep what came before in another body
	w.Write(piece)               // into memory, where nothing fails
	if last {
		w.Close()
	} else {
		w.Flush()
	}
	deflaters.Put(w)
	<-busy
	if last {
		into.Grow(8)
		into.Write(binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(into.AvailableBuffer(), g.crc), g.size))
		return
	}
	if len(piece) >= mostEarlier {
		g.earlier = g.earlier[:0]
	} else if over := len(g.earlier) + len(piece) - mostEarlier; over > 0 {
		g.earlier = g.earlier[:copy(g.earlier, g.earlier[over:])]
	}
	g.earlier = append(g.earlier, piece[max(len(piece)-mostEarlier, 0):]...)
}

func (p *pieces) release() {
	if p.raw != nil {
		giveBack(p.raw)
		p.raw = nil
	}
}

// A brotliBody has an encoder from its start to its end, so few have one.
type brotliBody struct{ *brotli.Writer }

// mostBrotli is how many bodies are coded by br at a time.
const mostBrotli = 32

var (
	brotliSeats = make(chan struct{}, mostBrotli)
	brotlis     = sync.Pool{New: func() any {
		return brotli.NewWriterOptions(io.Discard, brotli.WriterOptions{Quality: brLevel, LGWin: brWindow})
	}}
)

// takeSeat reports whether one more body can be coded by br.
func takeSeat() bool {
	select {
	case brotliSeats <- struct{}{}:
		return true
	default:
		return false
	}
}

func newBrotli(to io.Writer) body {
	w := brotlis.Get().(*brotli.Writer)
	w.Reset(to)
	return brotliBody{w}
}

func (b brotliBody) release() {
	b.Reset(io.Discard)
	brotlis.Put(b.Writer)
}
