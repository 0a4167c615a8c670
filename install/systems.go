package install

import (
	"encoding/xml"
	"fmt"
	"strings"
)

const (
	comment = "Your logins, in a book that only you can open"
	quietly = "--no-browser"
)

func (h Host) linux(p *Plan, args []string) {
	menu := h.join(h.data(), "applications", Name+".desktop")
	p.Files = append(p.Files,
		File{h.join(h.data(), "icons", "hicolor", "128x128", "apps", Name+".png"), icon, 0o644},
		File{menu, desktop(append([]string{p.Program}, args...), false), 0o644},
	)
	background := append([]string{p.Program, quietly}, args...)
	autostart := h.join(h.config(), "autostart", Name+".desktop")
	if !h.Systemd {
		p.Files = append(p.Files, File{autostart, desktop(background, true), 0o644})
		// setsid(1) of util-linux
		p.Start = []Step{{Command: append([]string{"setsid", "-f"}, background...), Try: true}}
		return
	}
	p.Files = append(p.Files, File{h.join(h.config(), "systemd", "user", Name+".service"), unit(background), 0o644})
	p.Start = []Step{
		{Command: []string{"systemctl", "--user", "daemon-reload"}},
		{Command: []string{"systemctl", "--user", "enable", "--now", Name + ".service"}},
	}
	p.End = []Step{{Command: []string{"systemctl", "--user", "disable", "--now", Name + ".service"}, Try: true}}
}

// unit is a systemd user unit: systemd.unit(5), systemd.service(5), systemd.exec(5).
func unit(command []string) []byte {
	words := make([]string, 0, len(command))
	for _, w := range command {
		words = append(words, `"`+strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$").Replace(w)+`"`)
	}
	return fmt.Appendf(nil, `[Unit]
Description=Red Locket: %s

[Service]
ExecStart=%s
Restart=on-failure
RestartSec=2
KillSignal=SIGINT
UMask=0077
LimitCORE=0
NoNewPrivileges=yes

[Install]
WantedBy=default.target
`, comment, strings.Join(words, " "))
}

// desktop is a desktop entry: in the menu, or for the start of the session.
func desktop(command []string, hidden bool) []byte {
	words := make([]string, 0, len(command))
	for _, w := range command {
		// Quoted as a string value, whose backslashes are escaped once more.
		w = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", `$`, `\$`).Replace(w)
		words = append(words, `"`+strings.ReplaceAll(strings.ReplaceAll(w, `\`, `\\`), "%", "%%")+`"`)
	}
	more := "Categories=Utility;Security;\nKeywords=password;login;vault;\nStartupNotify=false\n"
	if hidden {
		more = "NoDisplay=true\n"
	}
	return fmt.Appendf(nil, `[Desktop Entry]
Type=Application
Name=Red Locket
Comment=%s
Exec=%s
Icon=%s
Terminal=false
%s`, comment, strings.Join(words, " "), Name, more)
}

func (h Host) darwin(p *Plan, args []string) {
	agent := h.join(h.Home, "Library", "LaunchAgents", label+".plist")
	contents := h.bundle()
	p.Files = append(p.Files,
		File{agent, plist(
			"Label", label, "ProgramArguments", append([]string{p.Program, quietly}, args...),
			"RunAtLoad", true, "KeepAlive", map[string]bool{"SuccessfulExit": false}, "ProcessType", "Interactive",
		), 0o644},
		File{h.join(contents, "Info.plist"), plist(
			"CFBundleName", "Red Locket", "CFBundleIdentifier", label+".open", "CFBundleExecutable", "open",
			"CFBundlePackageType", "APPL", "LSUIElement", true,
		), 0o644},
		File{h.join(contents, "MacOS", "open"), script(append([]string{p.Program}, args...)), 0o755},
	)
	p.Start = []Step{
		{Command: []string{"launchctl", "unload", agent}, Try: true},
		{Command: []string{"launchctl", "load", "-w", agent}},
	}
	p.End = []Step{{Command: []string{"launchctl", "unload", "-w", agent}, Try: true}}
}

// plist is a property list of names and values: plist(5), launchd.plist(5).
func plist(pairs ...any) []byte {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
`)
	for i := 0; i < len(pairs); i += 2 {
		fmt.Fprintf(&b, "\t<key>%s</key>\n\t%s\n", pairs[i], plistValue(pairs[i+1]))
	}
	b.WriteString("</dict>\n</plist>\n")
	return []byte(b.String())
}

func plistValue(v any) string {
	switch v := v.(type) {
	case bool:
		return fmt.Sprintf("<%t/>", v)
	case []string:
		var b strings.Builder
		b.WriteString("<array>")
		for _, s := range v {
			b.WriteString(plistValue(s))
		}
		return b.String() + "</array>"
	case map[string]bool:
		var b strings.Builder
		b.WriteString("<dict>")
		for k, is := range v { // of one key
			fmt.Fprintf(&b, "<key>%s</key><%t/>", k, is)
		}
		return b.String() + "</dict>"
	default:
		var b strings.Builder
		_ = xml.EscapeText(&b, fmt.Append(nil, v)) // a strings.Builder takes everything
		return "<string>" + b.String() + "</string>"
	}
}

// script runs a command, quoted for the shell of POSIX.
func script(command []string) []byte {
	words := make([]string, 0, len(command))
	for _, w := range command {
		words = append(words, `'`+strings.ReplaceAll(w, `'`, `'\''`)+`'`)
	}
	return []byte("#!/bin/sh\nexec " + strings.Join(words, " ") + "\n")
}

const runKey = `HKCU\Software\Microsoft\Windows\CurrentVersion\Run`

func (h Host) windows(p *Plan, args []string) {
	shortcut := h.join(h.env("APPDATA", "AppData", "Roaming"),
		"Microsoft", "Windows", "Start Menu", "Programs", "Red Locket.lnk")
	background := windowsLine(append([]string{p.Program, quietly, "--hide-window"}, args...))
	link := fmt.Sprintf(`$s=(New-Object -ComObject WScript.Shell).CreateShortcut(%s);$s.TargetPath=%s;$s.Arguments=%s;`+
		`$s.Description=%s;$s.Save()`, powershell(shortcut), powershell(p.Program), powershell(windowsLine(args)),
		powershell(comment))
	p.Start = []Step{
		{Command: []string{"reg", "add", runKey, "/v", "Red Locket", "/t", "REG_SZ", "/d", background, "/f"}},
		{Command: []string{"powershell", "-NoProfile", "-NonInteractive", "-Command", link}},
		{Command: append([]string{"cmd", "/c", "start", "", "/min", p.Program, quietly, "--hide-window"}, args...)},
	}
	p.Check = []string{"reg", "query", runKey, "/v", "Red Locket"}
	p.End = []Step{
		{Command: []string{"reg", "delete", runKey, "/v", "Red Locket", "/f"}, Try: true},
		{Command: []string{"cmd", "/c", "del", shortcut}, Try: true},
		{Command: []string{"taskkill", "/im", Name + ".exe", "/f"}, Try: true},
	}
}

// windowsLine is a command line as programs of Windows take it apart: CommandLineToArgvW.
func windowsLine(words []string) string {
	out := make([]string, 0, len(words))
	for _, w := range words {
		var b strings.Builder
		b.WriteByte('"')
		slashes := 0
		for _, r := range w {
			switch r {
			case '\\':
				slashes++
				continue
			case '"':
				b.WriteString(strings.Repeat(`\`, 2*slashes+1))
			default:
				b.WriteString(strings.Repeat(`\`, slashes))
			}
			slashes = 0
			b.WriteRune(r)
		}
		b.WriteString(strings.Repeat(`\`, 2*slashes) + `"`)
		out = append(out, b.String())
	}
	return strings.Join(out, " ")
}

// powershell is a word that PowerShell takes as it is.
func powershell(s string) string { return `'` + strings.ReplaceAll(s, `'`, `''`) + `'` }

// ForPackage are the files that a package of a Linux distribution has beside the program, which it puts at /usr/bin:
// the menu entry, its icon, and a user unit that each user switches on by themselves, with systemctl or redlocket
// install.
func ForPackage() []File {
	program := "/usr/bin/" + Name
	return []File{
		{"/usr/share/applications/" + Name + ".desktop", desktop([]string{program}, false), 0o644},
		{"/usr/share/icons/hicolor/128x128/apps/" + Name + ".png", icon, 0o644},
		{"/usr/lib/systemd/user/" + Name + ".service", unit([]string{program, quietly}), 0o644},
	}
}
