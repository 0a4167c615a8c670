package autofill

import (
	"slices"
	"strings"
	"unicode"
)

// The words by which pages name things, in ten languages (common practice; from
// memory). A term matches as a whole word, or as part of one where it is marked
// by a leading "~", as for languages that join words or don't part them.
var (
	wordsUser    = terms("username", "user name", "userid", "user id", "user", "login", "loginid", "login id", "account", "account name", "member", "member number", "customer number", "nickname", "nick", "handle", "screen name", "email or", "identifier", "identifiant", "nom d'utilisateur", "utilisateur", "~benutzer", "~anmeldename", "kennung", "usuario", "utente", "usuário", "utilizador", "~gebruikersnaam", "~brugernavn", "~användarnamn", "użytkownik", "nazwa użytkownika", "логин", "имя пользователя", "~ユーザー", "~ログインid", "用户名", "帐号", "账号", "아이디")
	wordsMail    = terms("email", "e-mail", "e mail", "mail", "emailaddress", "courriel", "adresse mail", "correo", "correo electrónico", "posta elettronica", "~e-mailadres", "~mailadresse", "~e-postadress", "почта", "эл. почта", "~メール", "邮箱", "电子邮件", "이메일")
	wordsCurrent = terms("current", "old", "existing", "present", "actuel", "ancien", "aktuelles", "altes", "bisheriges", "actual", "antigua", "attuale", "vecchia", "atual", "antiga", "huidig", "oud", "nuværende", "nuvarande", "obecne", "stare", "текущий", "старый", "~現在", "当前", "旧", "현재")
	wordsNew     = terms("new", "create", "choose", "repeat", "confirm", "confirmation", "again", "verify", "retype", "nouveau", "confirmer", "confirmez", "répétez", "neues", "wiederholen", "bestätigen", "nueva", "confirmar", "repetir", "nuova", "conferma", "ripeti", "nova", "nieuw", "herhaal", "bevestig", "ny", "nyt", "gentag", "bekræft", "nytt", "upprepa", "nowe", "powtórz", "новый", "повторите", "подтвердите", "~新しい", "~確認", "新密码", "确认", "새", "확인")
	wordsSignUp  = terms("sign up", "signup", "register", "registration", "create account", "create an account", "join", "open an account", "get started", "inscription", "s'inscrire", "créer", "registrieren", "konto erstellen", "konto anlegen", "registrarse", "crear cuenta", "regístrate", "registrati", "crea account", "cadastrar", "criar conta", "registreren", "account aanmaken", "opret", "tilmeld", "registrera", "skapa konto", "zarejestruj", "załóż konto", "регистрация", "зарегистрироваться", "~新規登録", "~アカウント作成", "注册", "회원가입")
	wordsSignIn  = terms("sign in", "signin", "sign-in", "log in", "login", "log on", "logon", "enter", "connexion", "se connecter", "identifiez-vous", "anmelden", "einloggen", "iniciar sesión", "acceder", "entrar", "accedi", "inloggen", "aanmelden", "log ind", "logga in", "zaloguj", "войти", "вход", "~ログイン", "登录", "로그인")
	wordsNext    = terms("next", "continue", "proceed", "suivant", "continuer", "weiter", "siguiente", "continuar", "avanti", "continua", "volgende", "doorgaan", "næste", "fortsæt", "nästa", "fortsätt", "dalej", "далее", "продолжить", "~次へ", "下一步", "다음")
	wordsChange  = terms("change password", "change your password", "reset password", "update password", "password change", "changer le mot de passe", "passwort ändern", "kennwort ändern", "cambiar contraseña", "cambia password", "alterar senha", "wachtwoord wijzigen", "skift adgangskode", "byt lösenord", "zmień hasło", "сменить пароль", "изменить пароль", "~パスワード変更", "~パスワードの変更", "修改密码", "비밀번호 변경")
	wordsSearch  = terms("search", "query", "q", "find", "recherche", "rechercher", "suche", "suchen", "buscar", "cerca", "pesquisar", "zoeken", "søg", "sök", "szukaj", "поиск", "~検索", "搜索", "검색", "newsletter", "subscribe", "coupon", "voucher", "promo", "gift")
	wordsCode    = terms("one-time", "one time", "otp", "totp", "2fa", "mfa", "passcode", "verification code", "security code", "authentication code", "code de vérification", "bestätigungscode", "einmalcode", "código de verificación", "codice di verifica", "验证码", "인증번호", "cvv", "cvc", "csc", "card verification", "pin")
)

type term struct {
	text   string
	inside bool
}

func terms(list ...string) []term {
	out := make([]term, len(list))
	for i, t := range list {
		out[i] = term{strings.TrimPrefix(t, "~"), strings.HasPrefix(t, "~")}
		for _, r := range t {
			if r > 0x2E80 { // scripts that don't part words
				out[i].inside = true
			}
		}
	}
	return out
}

// has reports whether any of the terms stands in the text. The text must be
// normal, see normal.
func has(text string, list []term) bool {
	return slices.ContainsFunc(list, func(t term) bool {
		if t.inside {
			return strings.Contains(text, t.text)
		}
		return strings.Contains(text, " "+t.text+" ")
	})
}

// normal brings a page's text to words parted by single spaces, with one at
// either end: camelCase and snake_case parted, lower case, punctuation dropped.
func normal(parts ...string) string {
	var b strings.Builder
	b.WriteByte(' ')
	space := true
	for _, p := range parts {
		var last rune
		for _, r := range p {
			switch {
			case unicode.IsUpper(r) && unicode.IsLower(last) && !space:
				b.WriteByte(' ')
				b.WriteRune(unicode.ToLower(r))
				space = false
			case unicode.IsLetter(r), unicode.IsDigit(r), r == '\'', r == '-' && unicode.IsLetter(last):
				b.WriteRune(unicode.ToLower(r))
				space = false
			case !space:
				b.WriteByte(' ')
				space = true
			}
			last = r
		}
		if !space {
			b.WriteByte(' ')
			space = true
		}
	}
	return b.String()
}
