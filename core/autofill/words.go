package autofill

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// class is what a word says. One word may stand in several tables; of words that
// overlap the longest counts, so that "card number" isn't read as "number".
type class uint8

// The classes beside the roles.
const (
	saysUser class = iota
	saysMail
	saysPassword
	saysCurrent
	saysNew
	saysAgain
	saysCode
	saysSecretOther // a security question, a hint, a memorable word: never a password's place
	saysSearch
	saysNewsletter
	saysOther // coupons, captchas, quantities, comments, references
	saysSignUp
	saysSignIn
	saysNext
	saysChange
	saysForgot
	saysRemember
	saysCard
	saysBilling
	saysRefused // that it was wrong
	saysDemands // what may be wrong with it, or something else
	saysDone
	saysDay
	saysMonth
	saysYear
	firstRole // roles follow, in the order of roleWords
)

// loginWords are the words by which pages name what has to do with logins, in
// more than ten languages (common practice; from memory). "~" marks those that are
// found inside of longer words, as in languages that join words or don't separate them.
var loginWords = map[class]string{
	saysUser: `username|user name|userid|user id|user|usr|uname|login|login name|loginid|login id|logon|account|
		account id|account name|account number|member|member id|member number|membership number|customer id|
		customer code|client code|customer no|customer number|client number|client id|nickname|nick name|handle|
		screen name|identifier|identification|sign in id|signin id|user or email|policy number|library card|
		reader number|student number|patient number|
		identifiant|nom d utilisateur|utilisateur|pseudo|numéro client|numéro de client|~benutzer|~anmeldename|
		kennung|~kundennummer|~mitgliedsnummer|~kontonummer|usuario|nombre de usuario|número de cliente|utente|
		nome utente|codice cliente|codice utente|usuário|utilizador|nome de usuário|~gebruikersnaam|gebruiker|
		~klantnummer|~brugernavn|~användarnamn|~brukernavn|~käyttäjätunnus|~kundnummer|użytkownik|
		nazwa użytkownika|nr klienta|numer klienta|логин|имя пользователя|пользователь|uživatelské jméno|
		kullanıcı adı|όνομα χρήστη|
		~ユーザー|~ログインid|~会員番号|~お客様番号|~用户名|~帐号|~账号|~账户|~會員|~帳號|~아이디|~사용자`,
	saysMail: `email|e mail|mail|emailaddress|email address|e mail address|mail address|courriel|
		adresse mail|adresse e mail|adresse électronique|correo|correo electrónico|posta elettronica|
		indirizzo email|e mailadres|~mailadresse|~emailadresse|~mailadres|~epost|e post|e postadress|
		~sähköposti|почта|эл почта|электронная почта|adres e mail|e posta|ηλεκτρονικό ταχυδρομείο|~メール|~邮箱|
		~电子邮件|~電子郵件|~이메일`,
	saysPassword: `password|passwd|pwd|pass word|passphrase|pass phrase|passwort|pass|psw|pswd|pin|pin code|
		passcode|mot de passe|mdp|motdepasse|code secret|~passwort|~kennwort|contraseña|contrasena|clave|
		clave de acceso|parola d ordine|password di accesso|senha|palavra passe|~wachtwoord|~adgangskode|
		~kodeord|~lösenord|~passord|~salasana|hasło|haslo|пароль|heslo|şifre|parola|κωδικός|κωδικός πρόσβασης|
		~パスワード|~暗証番号|~密码|~密碼|~口令|~비밀번호`,
	saysCurrent: `current|old|existing|present|previous|actuel|ancien|aktuelles|altes|bisheriges|aktuell|
		actual|antigua|anterior|attuale|vecchia|atual|antiga|huidig|huidige|oud|oude|nuværende|nuvarande|
		nåværende|gammel|obecne|aktualne|stare|текущий|старый|~現在|~当前|~旧|~현재|~기존`,
	saysNew: `new|create|choose|set|nouveau|nouvel|créer|choisissez|neues|neu|erstellen|wählen|nueva|
		nuevo|crear|elige|nuova|nuovo|crea|scegli|nova|novo|criar|escolha|nieuw|nieuwe|kies|ny|nyt|nytt|vælg|
		välj|velg|nowe|utwórz|новый|придумайте|~新しい|~新規|~新密码|~新的|~새`,
	saysAgain: `again|repeat|confirm|confirmation|confirmed|verify|verification|retype|re type|reenter|
		re enter|re|repeated|password 2|pwd 2|pass 2|password2|confirmer|confirmez|répétez|répéter|wiederholen|
		wiederholung|wdh|bestätigen|bestätigung|nochmals|erneut|confirmar|confirma|repetir|repite|repita|
		conferma|ripeti|ripetere|herhaal|herhalen|bevestig|bevestigen|gentag|bekræft|upprepa|bekräfta|gjenta|
		bekreft|powtórz|potwierdź|повторите|подтвердите|подтверждение|еще раз|~再入力|~確認|~确认|~再次|~重复|~확인|~재입력`,
	saysCode: `code|one time|one time code|one time password|otp|totp|2 fa|mfa|two factor|two step|
		verification code|authentication code|authenticator code|auth code|login code|security code|access code|
		sms code|digit code|6 digit code|token|code from your app|code de vérification|code à usage unique|
		code reçu|bestätigungscode|einmalcode|einmalpasswort|sicherheitscode|~tan|código de verificación|
		código de un solo uso|codice di verifica|codice monouso|código de verificação|verificatiecode|
		engangskode|bekræftelseskode|engångskod|kod weryfikacyjny|kod jednorazowy|код подтверждения|код из смс|
		одноразовый код|~認証コード|~確認コード|~ワンタイム|~验证码|~動態密碼|~驗證碼|~인증번호|~인증 코드`,
	saysSecretOther: `hint|hinweis|password hint|security question|security answer|secret question|
		secret answer|answer|mother s maiden name|maiden name|memorable|memorable word|memorable information|
		question secrète|réponse secrète|réponse|sicherheitsfrage|antwort|pregunta de seguridad|respuesta|
		domanda|risposta|pergunta|resposta|vraag|antwoord|~秘密の質問|~安全问题|~보안 질문|api key|access key|secret key|
		private key|licence key|license key|gift card number|gift card pin|voucher|wifi password|wi fi password|
		wifi|ssid|network key|pre shared key|preshared key|smtp|imap|pop 3|proxy password|community string`,
	saysSearch: `search|query|find|keyword|keywords|lookup|look up|recherche|rechercher|suche|suchen|
		suchbegriff|buscar|búsqueda|cerca|ricerca|pesquisar|busca|zoeken|zoek|søg|søk|sök|haku|szukaj|поиск|
		найти|hledat|ara|αναζήτηση|~検索|~搜索|~搜尋|~검색`,
	saysNewsletter: `newsletter|subscribe|subscription|news|mailing list|stay in touch|keep me posted|
		infolettre|abonnez vous|s abonner|abonnieren|suscríbete|suscribirse|boletín|iscriviti alla newsletter|
		nieuwsbrief|nyhedsbrev|nyhetsbrev|uutiskirje|biuletyn|рассылка|подписаться|~メルマガ|~订阅|~뉴스레터`,
	saysOther: `coupon|coupon code|voucher code|voucher|promo|promo code|promotion|discount|discount code|
		gift code|referral|referral code|invitation code|invite code|captcha|recaptcha|characters you see|
		characters in the picture|type the characters|comment|comments|message|subject|reason|quantity|qty|
		amount|tip|donation|order number|booking reference|tracking number|reference|site name|website name|
		code promo|code de réduction|gutschein|gutscheincode|rabattcode|cupón|código promocional|buono sconto|
		codice sconto|kortingscode|rabatkode|rabattkod|kod rabatowy|промокод|~クーポン|~优惠码|~쿠폰|company code|
		organisation code|organization code|tenant|sort code|iban|bic|swift|swift code|routing number|bsb|
		clave interbancaria|bankleitzahl|blz|tenant|workspace|subdomain|domain name|server address|server|
		host name`,
	saysSignUp: `sign up|signup|register|registration|registering|create account|create an account|
		create my account|create your account|create new account|new account|join|join now|join us|
		open an account|open the account|open account|get started|become a member|inscription|s inscrire|
		inscrivez vous|créer un compte|créer mon compte|créer le compte|registrieren|registrierung|
		konto erstellen|konto anlegen|konto eröffnen|neues konto|registrarse|registrarme|regístrate|registro|
		crear cuenta|crear una cuenta|registrati|registrazione|crea account|crea un account|iscriviti|cadastrar|
		cadastro|cadastre se|criar conta|registar|registreren|registratie|account aanmaken|account maken|opret|
		opret konto|tilmeld|registrera|skapa konto|registrer|opprett konto|rekisteröidy|luo tili|zarejestruj|
		rejestracja|załóż konto|utwórz konto|регистрация|зарегистрироваться|создать аккаунт|
		создать учетную запись|registrovat|kayıt ol|εγγραφή|~新規登録|~会員登録|~アカウント作成|~アカウントを作成|~注册|~註冊|~회원가입|
		~계정 만들기`,
	saysSignIn: `sign in|signin|log in|login|log on|logon|log me in|sign me in|unlock|unlock account|
		unlock me|access your account|my account|member login|welcome back|connexion|se connecter|
		connectez vous|identifiez vous|me connecter|s identifier|anmelden|anmeldung|einloggen|login bereich|
		iniciar sesión|inicia sesión|acceder|acceso|entrar|ingresar|accedi|accesso|entra|iniciar sessão|
		fazer login|inloggen|aanmelden|log ind|log på|logga in|logg inn|kirjaudu|kirjaudu sisään|zaloguj|
		zaloguj się|logowanie|войти|вход|авторизация|přihlásit|přihlášení|giriş yap|giriş|σύνδεση|~ログイン|~サインイン|
		~登录|~登入|~로그인`,
	saysNext: `next|continue|proceed|suivant|continuer|weiter|siguiente|continuar|avanti|continua|
		prosegui|volgende|doorgaan|verder|næste|fortsæt|nästa|fortsätt|neste|fortsett|seuraava|jatka|dalej|
		kontynuuj|далее|продолжить|další|devam|~次へ|~下一步|~다음`,
	saysChange: `change password|change your password|change my password|changing your password|
		update password|update your password|password change|edit password|new password|set a new password|
		set new password|set password|choose a new password|reset password|reset your password|change pin|
		changer le mot de passe|changer mon mot de passe|modifier le mot de passe|modifier mon mot de passe|
		nouveau mot de passe|passwort ändern|kennwort ändern|passwort zurücksetzen|neues passwort|
		cambiar contraseña|cambiar la contraseña|nueva contraseña|restablecer contraseña|cambia password|
		modifica password|nuova password|alterar senha|mudar senha|nova senha|wachtwoord wijzigen|
		nieuw wachtwoord|skift adgangskode|ny adgangskode|byt lösenord|ändra lösenord|nytt lösenord|
		endre passord|vaihda salasana|zmień hasło|zmiana hasła|nowe hasło|сменить пароль|изменить пароль|
		смена пароля|новый пароль|~パスワード変更|~パスワードの変更|~パスワードを変更|~修改密码|~更改密码|~重置密码|~비밀번호 변경|~비밀번호 재설정`,
	saysForgot: `forgot|forgot password|forgotten|forgotten password|forgot your password|lost password|
		recover|recovery|recover password|recover account|reset|send reset link|send password reset|reset link|
		mot de passe oublié|récupérer|réinitialiser|passwort vergessen|kennwort vergessen|olvidaste|olvidé|
		recuperar|recuperar contraseña|password dimenticata|recupera|esqueceu|esqueci|wachtwoord vergeten|
		glemt adgangskode|glömt lösenord|glemt passord|unohditko|zapomniałeś|nie pamiętasz|odzyskaj|
		забыли пароль|восстановить|~パスワードを忘れ|~忘记密码|~忘記密碼|~비밀번호 찾기`,
	saysRemember: `remember me|remember|keep me signed in|keep me logged in|stay signed in|stay logged in|
		se souvenir de moi|rester connecté|angemeldet bleiben|eingeloggt bleiben|recordarme|recuérdame|
		mantener sesión|ricordami|resta connesso|lembrar|lembrar me|onthoud mij|ingelogd blijven|husk mig|
		kom ihåg mig|husk meg|muista minut|zapamiętaj mnie|запомнить|запомнить меня|~ログイン状態を保持|~记住我|~로그인 상태 유지`,
	saysCard: `card|credit card|debit card|bank card|payment card|pay by card|card details|card payment|
		kreditkarte|carte bancaire|carte de crédit|tarjeta|carta di credito|cartão|betaalkaart|creditcard|
		betalingskort|~kortbetaling|karta płatnicza|банковская карта|~カード|~信用卡|~카드`,
	saysBilling: `billing|billing address|invoice address|payment address|rechnungsadresse|facturation|
		facturación|fatturazione|faktura`,
	saysRefused: `wrong|incorrect|invalid|not right|not correct|doesn t match|don t match|does not match|
		do not match|didn t match|not match|not recognised|not recognized|failed|denied|refused|rejected|
		not valid|not the same|couldn t|could not|incorrecte|incorrect|invalide|erroné|falsch|falsches|falscher|
		falsche|ungültig|fehlgeschlagen|stimmt nicht|stimmen nicht|incorrecta|incorrecto|inválido|inválida|
		no coincide|errata|errato|non valido|non valida|non corretta|inválido|incorreta|incorreto|não confere|
		onjuist|ongeldig|forkert|ugyldig|felaktigt|ogiltig|väärä|błędne|nieprawidłowe|неверный|неверно|
		не совпадают|nesprávné|yanlış|λάθος|~正しくありません|~間違|~一致しません|~不正确|~有误|~失敗|~일치하지|~잘못`,
	saysDemands: `failure|error|try again|not found|unknown|too short|too weak|too long|already taken|taken|
		already exists|already in use|expired|locked|must be|must contain|must have|must not|required|is needed|
		needs at least|at least|cannot|can t|isn t|aren t|unable|erreur|existe déjà|fehler|bereits vergeben|
		ya existe|già|fout|fel|feil|virhe|błąd|ошибка|~エラー|~错误|~오류`,
	saysDay:   `day|dd|tt|jj|tag|jour|día|giorno|dia|dag|dzień|день|~日`,
	saysMonth: `month|mm|monat|mois|mes|mese|mês|maand|måned|månad|miesiąc|месяц|~月`,
	saysYear:  `year|yy|yyyy|jahr|jjjj|année|aaaa|año|anno|ano|jaar|år|rok|год|гггг|~年`,
	saysDone: `password changed|password updated|password has been changed|password has been updated|
		password was changed|password was updated|password is changed|changed your password|
		updated your password|your new password|changed successfully|updated successfully|successfully changed|
		successfully updated|success|saved|mot de passe modifié|mot de passe a été modifié|passwort geändert|
		passwort wurde geändert|kennwort geändert|contraseña actualizada|contraseña cambiada|
		password modificata|password aggiornata|senha alterada|wachtwoord gewijzigd|adgangskode er ændret|
		adgangskoden er ændret|lösenordet har ändrats|passordet er endret|hasło zostało zmienione|
		пароль изменен|пароль изменён|~パスワードが変更|~変更しました|~密码已修改|~修改成功|~변경되었습니다`,
}

// entry is one term: its words, or the letters that are found inside.
type entry struct {
	words []string
	class class
}

// lexicon finds terms in normal text.
type lexicon struct {
	words  map[string][]entry
	inside map[rune][]entry
}

var lex = newLexicon()

func newLexicon() *lexicon {
	l := &lexicon{map[string][]entry{}, map[rune][]entry{}}
	for c, list := range loginWords {
		l.add(list, c)
	}
	for i, w := range roleWords {
		l.add(w.words, firstRole+class(i))
	}
	return l
}

func (l *lexicon) add(list string, c class) {
	for t := range strings.SplitSeq(list, "|") {
		t, inside := strings.CutPrefix(strings.TrimSpace(t), "~")
		text := strings.TrimSpace(normal(t))
		if text == "" {
			continue
		}
		if inside {
			first := []rune(text)[0]
			l.inside[first] = append(l.inside[first], entry{[]string{text}, c})
			continue
		}
		words := strings.Split(text, " ")
		l.words[words[0]] = append(l.words[words[0]], entry{words, c})
	}
}

// said is a set of classes.
type said [2]uint64

func (s said) has(c class) bool { return s[c>>6]&(1<<(c&63)) != 0 }
func (s *said) add(c class)     { s[c>>6] |= 1 << (c & 63) }
func (s said) any(list ...class) bool {
	for _, c := range list {
		if s.has(c) {
			return true
		}
	}
	return false
}
func (s said) or(t said) said { return said{s[0] | t[0], s[1] | t[1]} }

// read returns what a normal text says. Of terms that begin at one word the longest
// counts, and what it covers is read no further.
func (l *lexicon) read(text string) (out said) {
	words := strings.Fields(text)
	var covered [][2]int // of the text, by terms of several words
	at := 0
	for i := 0; i < len(words); {
		longest := 0
		for _, e := range l.words[words[i]] {
			n := len(e.words)
			if n < longest || i+n > len(words) || !equal(e.words, words[i:i+n]) {
				continue
			}
			longest = n
		}
		for _, e := range l.words[words[i]] {
			if len(e.words) == longest && i+longest <= len(words) && equal(e.words, words[i:i+longest]) {
				out.add(e.class)
			}
		}
		from := at
		for _, w := range words[i : i+max(1, longest)] {
			at = strings.Index(text[at:], w) + at + len(w)
		}
		if longest > 1 {
			covered = append(covered, [2]int{from, at})
		}
		i += max(1, longest)
	}
	for i := 0; i < len(text); {
		if len(covered) > 0 && i >= covered[0][0] {
			i = max(i, covered[0][1])
			covered = covered[1:]
			continue
		}
		longest := 0
		r, size := utf8.DecodeRuneInString(text[i:])
		list := l.inside[r]
		for _, e := range list {
			if len(e.words[0]) > longest && strings.HasPrefix(text[i:], e.words[0]) {
				longest = len(e.words[0])
			}
		}
		for _, e := range list {
			if longest > 0 && len(e.words[0]) == longest && strings.HasPrefix(text[i:], e.words[0]) {
				out.add(e.class)
			}
		}
		i += max(size, longest)
	}
	return out
}

func equal(a, b []string) bool {
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// normal brings a page's text to words separated by single spaces, with one at
// either end: camelCase and snake_case split, letters and digits too, lower case,
// punctuation dropped.
func normal(parts ...string) string {
	var b strings.Builder
	b.WriteByte(' ')
	space := true
	for _, p := range parts {
		var last rune
		for _, r := range p {
			letter, digit := unicode.IsLetter(r) || unicode.Is(unicode.Mn, r), unicode.IsDigit(r)
			switch {
			case !letter && !digit:
				if !space {
					b.WriteByte(' ')
					space = true
				}
			default:
				if !space &&
					(unicode.IsUpper(r) && unicode.IsLower(last) || digit && unicode.IsLetter(last) ||
						letter && unicode.IsDigit(last)) {
					b.WriteByte(' ')
				}
				b.WriteRune(unicode.ToLower(r))
				space = false
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
