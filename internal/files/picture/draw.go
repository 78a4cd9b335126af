package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif" // kinds of pictures that are read
	"image/jpeg"
	_ "image/png"
	"io"
	"strconv"

	_ "golang.org/x/image/bmp"
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"
)

// Word is the argument by which the program knows that it is to draw.
const Word = "draw-preview"

const (
	// maxBytes and maxPixels bound the pictures that are drawn: 40 million pixels take 160 MB.
	maxBytes, maxPixels = 64 << 20, 40_000_000
	// maxSide bounds the sides of what is drawn, pixels.
	maxSide = 1600
	quality = 82
)

// Draw reads a picture and writes it as JPEG, with no side longer than it is told. It is what the
// process does that was started for it.
func Draw(in io.Reader, out io.Writer, side string) error {
	most, err := strconv.Atoi(side)
	if err != nil || most < 1 || most > maxSide {
		return errors.New("the side is a number of pixels")
	}
	if err := bound(); err != nil {
		return err
	}
	text, err := io.ReadAll(io.LimitReader(in, maxBytes+1))
	if err != nil {
		return err
	}
	if len(text) > maxBytes {
		return errors.New("the picture is too large")
	}
	facts, kind, err := image.DecodeConfig(bytes.NewReader(text))
	if err != nil {
		return err
	}
	if facts.Width <= 0 || facts.Height <= 0 || facts.Width > maxPixels/facts.Height {
		return fmt.Errorf("%d × %d pixels are too many", facts.Width, facts.Height)
	}
	full, _, err := image.Decode(bytes.NewReader(text))
	if err != nil {
		return err
	}
	turn := 1
	if kind == "jpeg" {
		turn = orientation(text)
	}
	return jpeg.Encode(out, turned(small(full, most), turn), &jpeg.Options{Quality: quality})
}

// small scales a picture down, onto white.
func small(full image.Image, most int) *image.RGBA {
	size := full.Bounds().Size()
	if long := max(size.X, size.Y); long > most {
		size.X, size.Y = max(1, size.X*most/long), max(1, size.Y*most/long)
	}
	drawn := image.NewRGBA(image.Rectangle{Max: size})
	draw.Draw(drawn, drawn.Bounds(), image.NewUniform(color.White), image.Point{}, draw.Src)
	draw.ApproxBiLinear.Scale(drawn, drawn.Bounds(), full, full.Bounds(), draw.Over, nil)
	return drawn
}

// turned turns a picture as its camera was held (TIFF 6.0, section 8, Orientation).
func turned(from *image.RGBA, orientation int) image.Image {
	if orientation < 2 || orientation > 8 {
		return from
	}
	w, h := from.Bounds().Dx(), from.Bounds().Dy()
	size := image.Pt(w, h)
	if orientation >= 5 {
		size = image.Pt(h, w)
	}
	to := image.NewRGBA(image.Rectangle{Max: size})
	for y := range h {
		for x := range w {
			at := [9]image.Point{2: {w - 1 - x, y}, 3: {w - 1 - x, h - 1 - y}, 4: {x, h - 1 - y}, 5: {y, x}, 6: {h - 1 - y, x}, 7: {h - 1 - y, w - 1 - x}, 8: {y, w - 1 - x}}[orientation]
			to.SetRGBA(at.X, at.Y, from.RGBAAt(x, y))
		}
	}
	return to
}

// orientation finds it in a JPEG's Exif block (Exif 2.32, section 4.5.4), 1 where it isn't said.
func orientation(text []byte) int {
	for at := 2; at+4 <= len(text) && text[at] == 0xFF && text[at+1] != 0xDA; {
		length := int(binary.BigEndian.Uint16(text[at+2:]))
		if at+2+length > len(text) || length < 2 {
			break
		}
		if block, is := bytes.CutPrefix(text[at+4:at+2+length], []byte("Exif\x00\x00")); is && text[at+1] == 0xE1 {
			return tag(block)
		}
		at += 2 + length
	}
	return 1
}

// tag reads Orientation from the first directory of a TIFF block.
func tag(block []byte) int {
	if len(block) < 8 {
		return 1
	}
	var order binary.ByteOrder = binary.BigEndian
	if block[0] == 'I' {
		order = binary.LittleEndian
	}
	const orientationTag, entry = 0x0112, 12
	from := int64(order.Uint32(block[4:]))
	if from+2 > int64(len(block)) {
		return 1
	}
	count := int64(order.Uint16(block[from:]))
	for i := range count {
		at := from + 2 + i*entry
		if at+entry > int64(len(block)) {
			break
		}
		if order.Uint16(block[at:]) == orientationTag {
			return int(order.Uint16(block[at+8:]))
		}
	}
	return 1
}
