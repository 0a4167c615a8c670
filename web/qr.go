package web

import (
	"fmt"
	"html/template"
	"strings"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
)

// qr draws text as a QR code (ISO/IEC 18004), error correction level M, as SVG.
func qr(text string) (template.HTML, error) {
	hints := map[gozxing.EncodeHintType]any{
		gozxing.EncodeHintType_ERROR_CORRECTION: "M",
		gozxing.EncodeHintType_MARGIN:           2,
	}
	m, err := qrcode.NewQRCodeWriter().Encode(text, gozxing.BarcodeFormat_QR_CODE, 0, 0, hints)
	if err != nil {
		return "", fmt.Errorf("failed to draw the QR code: %w", err)
	}
	var b strings.Builder
	fmt.Fprintf(
		&b,
		`<svg class="qr" viewBox="0 0 %d %d" role="img" aria-label="QR code"><path d="`,
		m.GetWidth(),
		m.GetHeight(),
	)
	for y := range m.GetHeight() {
		for x := range m.GetWidth() {
			if m.Get(x, y) {
				fmt.Fprintf(&b, "M%d %dh1v1h-1z", x, y)
			}
		}
	}
	b.WriteString(`"/></svg>`)
	return template.HTML(b.String()), nil //nolint:gosec // numbers only
}
