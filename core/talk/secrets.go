package talk

import (
	"bytes"
	"strings"

	"uparrot/core/secret"
	"uparrot/core/text"
)

// secretWords are what is asked for that is nobody else's business, in some languages.
const secretWords = `password|passwd|passphrase|pass phrase|pass-phrase|passcode|code|secret|pin|puk|key|token|psk` + // English
	`|passwort|kennwort|schlüssel|geheimzahl|mot de passe|contraseña|clave|senha|palavra-passe|wachtwoord|lösenord|passord|adgangskode|salasana` +
	`|hasło|heslo|jelszó|parola|lozinka|şifre|пароль|密码|口令|パスワード|비밀번호|암호`

// asks is the end of a question for one: such a word, not within another, and then the
// mark that a question ends with, whatever stands between.
var asks = text.Regexp(`(?i)(?:^|[^\pL])(?:` + secretWords + `)(?:$|[^\pL\r\n][^\r\n]{0,80})?\s*[:>?：]\s*$`)

// listen keeps what is said next secret, if the module asks for that.
func (t *Talker) listen(b []byte) {
	t.heard = append(t.heard, b...)
	if i := bytes.LastIndexAny(t.heard, "\r\n"); i >= 0 {
		t.heard = t.heard[i+1:]
	}
	if len(t.heard) > 200 {
		t.heard = t.heard[len(t.heard)-200:]
	}
	t.secrets.Lock()
	defer t.secrets.Unlock()
	t.asked = asks().MatchString(string(text.Plain(t.heard)))
	t.Events.Conceal(t.Station.Name, t.asked || t.next)
}

// Secret says that the next line is a secret, or takes that back. It reports whether the
// next line is one now.
func (t *Talker) Secret() bool {
	t.secrets.Lock()
	defer t.secrets.Unlock()
	t.next = !t.next
	t.Events.Conceal(t.Station.Name, t.asked || t.next)
	return t.next
}

// saying notes what is about to be said. A secret is hidden from then on, also where the
// module repeats it.
func (t *Talker) saying(w Words) {
	t.keepSecret(w.secrets)
	hides := t.Hides()
	t.echo.mu.Lock()
	t.release(unsure)
	if t.echo.line = ""; !hides && !w.Whole {
		t.echo.line = strings.TrimSpace(w.Text)
	}
	t.echo.mu.Unlock()
	if hides {
		t.conceal(w.Text)
	}
}

// keepSecret has texts hidden wherever they stand.
func (t *Talker) keepSecret(texts []string) {
	t.secrets.Lock()
	defer t.secrets.Unlock()
	for _, s := range texts {
		t.mask.Add(s)
		t.Events.Hide(s)
	}
}

// conceal has a line hidden that is about to be said, or to be told of.
func (t *Talker) conceal(line string) {
	t.secrets.Lock()
	defer t.secrets.Unlock()
	t.concealed, t.asked, t.next = true, false, false // it is answered
	t.Events.Conceal(t.Station.Name, true)
	if line = strings.TrimSpace(line); line != "" {
		t.mask.Add(line)
		t.Events.Hide(line)
	}
}

// Knows reports whether a line holds what has been found to be a secret.
func (t *Talker) Knows(line string) bool {
	t.secrets.Lock()
	defer t.secrets.Unlock()
	return t.mask.Any() && t.mask.Hide(line) != line
}

// shown is what the transcript shows of bytes.
func (t *Talker) shown(kind Kind, b []byte) []byte {
	t.secrets.Lock()
	defer t.secrets.Unlock()
	if kind == Said && t.concealed {
		t.concealed = false
		end := len(bytes.TrimRight(b, "\r\n"))
		return append([]byte(secret.Hidden), b[end:]...)
	}
	if !t.mask.Any() {
		return append([]byte(nil), b...)
	}
	return []byte(t.mask.Hide(string(b)))
}

// Hides reports whether the next line is a secret.
func (t *Talker) Hides() bool {
	t.secrets.Lock()
	defer t.secrets.Unlock()
	return t.asked || t.next
}
