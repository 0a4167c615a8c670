// Package qrpicture reads QR codes out of pictures that people paste.
package qrpicture

import (
	"bytes"
	"errors"
	"image"
	_ "image/gif"  // decoders of what people paste
	_ "image/jpeg" // "
	_ "image/png"  // "
	"strings"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
	_ "golang.org/x/image/bmp"  // "
	_ "golang.org/x/image/webp" // "

	"redlocket/core/otp"
	"redlocket/core/secret"
)

// maxPixels bounds what a picture unpacks to: a screen of the largest kind has
// 33 million.
const maxPixels = 40_000_000

// The errors of reading a picture.
var (
	ErrPicture = errors.New("this isn’t a picture that can be read; PNG, JPEG, GIF, WebP and BMP can")
	ErrNoQR    = errors.New("no QR code was found in the picture; cut it closer to the code and try again")
	ErrPixels  = errors.New("the picture is too large; cut it to the QR code and try again")
)

// Read reads the text of a QR code in a picture. Nothing of the picture is kept.
func Read(picture []byte) (string, error) {
	c, _, err := image.DecodeConfig(bytes.NewReader(picture))
	if err != nil {
		return "", ErrPicture
	}
	if c.Width <= 0 || c.Height <= 0 || c.Width > maxPixels/c.Height {
		return "", ErrPixels
	}
	img, _, err := image.Decode(bytes.NewReader(picture))
	if err != nil {
		return "", ErrPicture
	}
	return readQR(img)
}

// ReadSetup reads the setup key of one-time codes from the picture of a QR code.
func ReadSetup(picture []byte) (otp.Setup, error) {
	text, err := Read(picture)
	if err != nil {
		return otp.Setup{}, err
	}
	if !strings.HasPrefix(strings.ToLower(text), "otpauth:") {
		return otp.Setup{}, otp.ErrAddress
	}
	return otp.Parse(secret.New(text))
}

// readQR looks for a QR code: dark on light, and light on dark.
func readQR(img image.Image) (text string, err error) {
	defer func() {
		if recover() != nil { // a foreign picture must not stop the program
			err = ErrNoQR
		}
	}()
	light := gozxing.NewLuminanceSourceFromImage(img)
	hints := map[gozxing.DecodeHintType]any{gozxing.DecodeHintType_TRY_HARDER: true}
	for _, source := range []gozxing.LuminanceSource{light, light.Invert()} {
		for _, binarizer := range []gozxing.Binarizer{gozxing.NewHybridBinarizer(source),
			gozxing.NewGlobalHistgramBinarizer(source)} {
			bitmap, err := gozxing.NewBinaryBitmap(binarizer)
			if err != nil {
				continue
			}
			if r, err := qrcode.NewQRCodeReader().Decode(bitmap, hints); err == nil {
				return r.GetText(), nil
			}
		}
	}
	return "", ErrNoQR
}
