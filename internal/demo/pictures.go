package demo

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"math/rand/v2"
)

// The views of the harbour: how many, and their size in pixels.
const (
	views                 = 8
	viewWidth, viewHeight = 960, 640
)

// hang puts views of the harbour into the store, drawn here.
func (c *city) hang() error {
	for n := range views {
		text, err := view(n)
		if err == nil {
			err = c.write(fmt.Sprintf("shared/views/harbour-%02d.jpg", n+1), text, 0, c.founded())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// view draws the harbour at one hour of the day: sky, sun, hills, water and some sails.
func view(n int) ([]byte, error) {
	random := rand.New(rand.NewPCG(seed, uint64(n)))
	hour := float64(n) / (views - 1) // from dawn to dusk
	drawn := image.NewRGBA(image.Rect(0, 0, viewWidth, viewHeight))
	shore := viewHeight * 3 / 5
	warm := math.Abs(hour-0.5) * 2
	sun := image.Pt(int(hour*0.8*viewWidth)+viewWidth/10, int(float64(shore)*(0.25+0.6*warm*warm)))
	phase := random.Float64() * 6
	for x := range viewWidth {
		at := float64(x) / viewWidth * 2 * math.Pi
		far := shore - 40 - int(26*math.Sin(at+phase)+14*math.Sin(2.7*at+phase))
		near := shore - 8 - int(22*math.Sin(1.6*at+2*phase)+10*math.Sin(5*at))
		for y := range viewHeight {
			height := float64(y) / float64(shore)
			c := mix(color.RGBA{70, 120, 170, 255}, color.RGBA{245, 200, 150, 255}, height*warm)
			switch distance := math.Hypot(float64(x-sun.X), float64(y-sun.Y)); {
			case y >= shore:
				depth := float64(y-shore) / float64(viewHeight-shore)
				c = mix(mix(color.RGBA{120, 150, 165, 255}, color.RGBA{235, 180, 140, 255}, warm*0.7), color.RGBA{25, 60, 80, 255}, depth)
				if (x*7+y*13+int(20*math.Sin(float64(y)/3)))%97 < 3 {
					c = mix(c, color.RGBA{250, 240, 220, 255}, 0.4)
				}
			case y > near:
				c = color.RGBA{45, 75, 60, 255}
			case y > far:
				c = mix(color.RGBA{90, 120, 115, 255}, c, 0.3)
			case distance < 34:
				c = color.RGBA{255, 240, 200, 255}
			}
			drawn.SetRGBA(x, y, c)
		}
	}
	for range 3 + n%3 {
		sail(drawn, 60+random.IntN(viewWidth-120), shore+20+random.IntN(120))
	}
	var text bytes.Buffer
	err := jpeg.Encode(&text, drawn, &jpeg.Options{Quality: 80})
	return text.Bytes(), err
}

// sail draws a boat; what is lower is nearer and larger.
func sail(on *image.RGBA, x, y int) {
	size := 12 + (y-viewHeight*3/5)/4
	for dy := range size * 2 {
		for dx := range dy / 2 {
			on.SetRGBA(x+dx, y-size*2+dy, color.RGBA{250, 246, 236, 255})
		}
	}
	for dy := range size / 3 {
		for dx := -size + dy; dx < size-dy; dx++ {
			on.SetRGBA(x+dx, y+dy, color.RGBA{110, 50, 35, 255})
		}
	}
}

func mix(a, b color.RGBA, part float64) color.RGBA {
	part = min(1, max(0, part))
	blend := func(x, y uint8) uint8 { return uint8(float64(x)*(1-part) + float64(y)*part) }
	return color.RGBA{blend(a.R, b.R), blend(a.G, b.G), blend(a.B, b.B), 255}
}
