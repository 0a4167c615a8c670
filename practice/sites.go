package practice

// Shape is how a site asks for what it asks.
type Shape string

// The shapes.
const (
	OnePage  Shape = "one page"
	TwoPages Shape = "two pages"
	Moving   Shape = "a page that never reloads"
	Formless Shape = "a page without forms, search, newsletter, sign-in and sign-up side by side"
	Shadowed Shape = "fields inside shadow roots"
	Late     Shape = "fields that come late, with new names each time"
	Showing  Shape = "a password field that is replaced when it is shown"
	Framed   Shape = "a frame of its own"
	Away     Shape = "a frame from another host of the same site"
	Dialog   Shape = "a dialog above the page"
)

// Site is one site of the town.
type Site struct {
	Name  string // of its host
	Title string
	Line  string // what it is, in a few words
	Shape Shape
	Lang  string // of its pages; "en" if empty
	User  string // what it calls the user name, in its language; the language's usual word if empty
	Mail  bool   // whether that must be an e-mail address
	Least int    // characters of a password
	Most  int    // likewise; 0 for any
	Plain bool   // letters and digits only, one of each at least

	Rules   string // the passwordrules attribute of its boxes
	Pattern string // their pattern attribute
	Says    string // its rules in plain words
	Code    string // "boxes" or "box": asks for a one-time code after the password
	Sells   string // the shape of its checkout: "whole", "boxes", "parts", or "hosted": in frames of a payment company's
	Asks    bool   // wants personal details at sign-up
	Company bool   // asks for a company's code beside the user name
	Once    bool   // its change form has one box for the new password
	Knows   bool   // has a well-known address for changing the password
}

// Sites are the town's sites.
var Sites = []Site{
	{Name: "lanternfish", Title: "Lanternfish", Line: "Films at home", Shape: OnePage, User: "E-mail", Mail: true, Least: 8, Knows: true},
	{Name: "gullwing", Title: "Gullwing Credit Union", Line: "Your money, ashore and afloat", Shape: OnePage, User: "User name", Least: 10, Most: 32, Rules: "minlength: 10; maxlength: 32; required: lower; required: upper; required: digit; allowed: [-_.!]", Knows: true},
	{Name: "cormorant", Title: "Cormorant Mail", Line: "Letters that find you", Shape: TwoPages, User: "Address", Mail: true, Least: 8},
	{Name: "ferrylink", Title: "Ferrylink", Line: "Tickets to the islands", Shape: Moving, Mail: true, Least: 8},
	{Name: "brackish", Title: "Brackish Radio", Line: "The harbour’s forum", Shape: Formless, Least: 8},
	{Name: "pantryandpier", Title: "Pantry & Pier", Line: "Groceries to your door", Shape: OnePage, Mail: true, Least: 8, Sells: "whole"},
	{Name: "tidewater-library", Title: "Tidewater Library", Line: "Books on the ebb and the flood", Shape: OnePage, User: "Library card", Least: 6, Most: 12, Plain: true, Says: "Your password has 6 to 12 characters, letters and digits only."},
	{Name: "harbourwater", Title: "Harbour Water", Line: "Your water, metered", Shape: Shadowed, User: "Customer number", Least: 8},
	{Name: "oystercatcher", Title: "Oystercatcher Pharmacy", Line: "Prescriptions by the quay", Shape: Late, Mail: true, Least: 8},
	{Name: "kelpandcrown", Title: "Kelp & Crown", Line: "Seeds for salty gardens", Shape: Showing, Least: 8, Sells: "boxes"},
	{Name: "saltmarsh-school", Title: "Saltmarsh School", Line: "For parents", Shape: Framed, Least: 8},
	{Name: "halyard", Title: "Halyard Broadband", Line: "The fastest line on the coast", Shape: Away, Least: 10, Most: 24},
	{Name: "mooringmutual", Title: "Mooring Mutual", Line: "Savings, safely tied", Shape: OnePage, Least: 12, Code: "boxes", Says: "At least 12 characters with a capital, a number and one of: - _ . !"},
	{Name: "islandpost", Title: "Island Post", Line: "Pakete auf die Inseln", Shape: OnePage, Lang: "de", Mail: true, Least: 8, Code: "box"},
	{Name: "sandpiper-rail", Title: "Sandpiper Rail", Line: "Le train du littoral", Shape: TwoPages, Lang: "fr", Mail: true, Least: 8, Says: "Au moins 8 caractères dont une majuscule et un chiffre."},
	{Name: "whelk", Title: "Whelk Streaming", Line: "Series de la costa", Shape: Moving, Lang: "es", Mail: true, Least: 8},
	{Name: "thriftmarket", Title: "Thrift Marketplace", Line: "港の古道具", Shape: OnePage, Lang: "ja", Mail: true, Least: 8},
	{Name: "undertow", Title: "Undertow Games", Line: "Play below the surface", Shape: Formless, Least: 8, Most: 16, Plain: true, Pattern: `(?=.*\d)(?=.*[a-zA-Z])[A-Za-z0-9]{8,16}`},
	{Name: "yawl", Title: "Yawl Messenger", Line: "Recados pelo vento", Shape: Showing, Lang: "pt", User: "Telefone", Least: 8},
	{Name: "samphirehotels", Title: "Samphire Hotels", Line: "Camere con vista sul mare", Shape: OnePage, Lang: "it", Mail: true, Least: 8, Asks: true, Sells: "parts"},
	{Name: "periwinkle", Title: "Periwinkle Photos", Line: "Foto’s die blijven", Shape: Dialog, Lang: "nl", Mail: true, Least: 8, Sells: "hosted"},
	{Name: "topsail", Title: "Topsail Payroll", Line: "Wypłaty na czas", Shape: OnePage, Lang: "pl", User: "Nazwa użytkownika", Least: 8, Company: true, Once: true},
	{Name: "chandlery", Title: "Chandlery Direct", Line: "Tovværk og messing", Shape: OnePage, Lang: "da", Mail: true, Least: 8, Sells: "parts"},
}

// words are what sites say in one language.
type words struct {
	User, Mail, Password, Repeat, SignIn, SignUp, New, Current, Fresh, Again, Change, Next, Wrong, Short, Differ, Taken, Changed, SignOut, Hello, Code, Verify, WrongCode, Forgot, Company,
	Card, Holder, Expiry, Month, Year, Safety, Pay, Paid, First, Last, Street, House, Town, Post, Country, Phone, Birthday, Day string
}

var tongues = map[string]words{
	"en": {"User name", "E-mail", "Password", "Repeat password", "Sign in", "Open an account", "New here?", "Current password", "New password", "New password again", "Change password", "Next", "The user name or the password is not right.", "The password needs at least %d characters.", "The two passwords are not the same.", "Somebody has that name already.", "Your password was changed.", "Sign out", "Good day", "Verification code", "Verify", "The code is not right.", "Forgot your password?", "Company code",
		"Card number", "Name on card", "Expiry date (MM/YY)", "Month", "Year", "Security code", "Pay now", "Paid, thank you", "First name", "Last name", "Street address", "House number", "Town", "Postcode", "Country", "Phone", "Date of birth", "Day"},
	"de": {"Benutzername", "E-Mail-Adresse", "Passwort", "Passwort wiederholen", "Anmelden", "Konto erstellen", "Neu hier?", "Aktuelles Passwort", "Neues Passwort", "Neues Passwort wiederholen", "Passwort ändern", "Weiter", "E-Mail-Adresse oder Passwort ist falsch.", "Das Passwort braucht mindestens %d Zeichen.", "Die Passwörter stimmen nicht überein.", "Diese Adresse ist bereits vergeben.", "Ihr Passwort wurde geändert: Passwort geändert.", "Abmelden", "Guten Tag", "Bestätigungscode", "Bestätigen", "Der Code ist falsch.", "Passwort vergessen?", "Firmenkürzel",
		"Kartennummer", "Karteninhaber", "Gültig bis (MM/JJ)", "Monat", "Jahr", "Prüfnummer", "Jetzt bezahlen", "Bezahlt, danke", "Vorname", "Nachname", "Straße", "Hausnummer", "Ort", "PLZ", "Land", "Telefon", "Geburtsdatum", "Tag"},
	"fr": {"Identifiant", "Adresse e-mail", "Mot de passe", "Confirmez le mot de passe", "Se connecter", "Créer un compte", "Nouveau ?", "Mot de passe actuel", "Nouveau mot de passe", "Confirmez le nouveau mot de passe", "Modifier le mot de passe", "Suivant", "L’identifiant ou le mot de passe est incorrect.", "Le mot de passe est invalide : au moins %d caractères.", "Erreur : les mots de passe ne sont pas identiques.", "Ce compte existe déjà.", "Mot de passe modifié.", "Se déconnecter", "Bonjour", "Code de vérification", "Valider", "Le code est incorrect.", "Mot de passe oublié ?", "Société",
		"Numéro de carte", "Titulaire de la carte", "Date d’expiration (MM/AA)", "Mois", "Année", "Cryptogramme", "Payer", "Payé, merci", "Prénom", "Nom", "Adresse", "Numéro de rue", "Ville", "Code postal", "Pays", "Téléphone", "Date de naissance", "Jour"},
	"es": {"Usuario", "Correo electrónico", "Contraseña", "Repetir contraseña", "Iniciar sesión", "Crear cuenta", "¿Nuevo?", "Contraseña actual", "Nueva contraseña", "Repetir nueva contraseña", "Cambiar contraseña", "Siguiente", "El correo o la contraseña es incorrecta.", "Inválida: la contraseña necesita %d caracteres.", "Las contraseñas no coinciden.", "La cuenta ya existe.", "Contraseña actualizada.", "Cerrar sesión", "Buenos días", "Código de verificación", "Verificar", "El código es incorrecto.", "¿Olvidaste la contraseña?", "Empresa",
		"Número de tarjeta", "Titular de la tarjeta", "Caducidad (MM/AA)", "Mes", "Año", "Código de seguridad", "Pagar", "Pagado, gracias", "Nombre", "Apellidos", "Dirección", "Número exterior", "Ciudad", "Código postal", "País", "Teléfono", "Fecha de nacimiento", "Día"},
	"it": {"Nome utente", "Indirizzo email", "Password", "Ripeti password", "Accedi", "Crea un account", "Nuovo?", "Password attuale", "Nuova password", "Ripeti la nuova password", "Modifica password", "Avanti", "Email o password errata.", "Password non valida: almeno %d caratteri.", "Errore: le password non coincidono.", "Esiste già un account.", "Password aggiornata.", "Esci", "Buongiorno", "Codice di verifica", "Verifica", "Codice errato.", "Password dimenticata?", "Azienda",
		"Numero di carta", "Titolare della carta", "Scadenza (MM/AA)", "Mese", "Anno", "Codice di sicurezza", "Paga", "Pagato, grazie", "Nome", "Cognome", "Indirizzo", "Numero civico", "Città", "CAP", "Paese", "Telefono", "Data di nascita", "Giorno"},
	"pt": {"Usuário", "E-mail", "Senha", "Confirmar senha", "Entrar", "Criar conta", "Novo aqui?", "Senha atual", "Nova senha", "Confirmar nova senha", "Alterar senha", "Continuar", "Telefone ou senha incorreta.", "Inválida: a senha precisa de %d caracteres.", "Erro: as senhas não coincidem.", "Inválido: já existe uma conta.", "Senha alterada.", "Sair", "Bom dia", "Código de verificação", "Verificar", "Código incorreto.", "Esqueceu a senha?", "Empresa",
		"Número do cartão", "Nome no cartão", "Validade (MM/AA)", "Mês", "Ano", "Código de segurança", "Pagar", "Pago, obrigado", "Primeiro nome", "Sobrenome", "Endereço", "Número", "Cidade", "CEP", "País", "Telefone", "Data de nascimento", "Dia"},
	"nl": {"Gebruikersnaam", "E-mailadres", "Wachtwoord", "Herhaal wachtwoord", "Inloggen", "Account aanmaken", "Nieuw hier?", "Huidig wachtwoord", "Nieuw wachtwoord", "Herhaal nieuw wachtwoord", "Wachtwoord wijzigen", "Volgende", "E-mailadres of wachtwoord is onjuist.", "Ongeldig: minimaal %d tekens.", "Fout: de wachtwoorden zijn niet gelijk.", "Fout: er is al een account.", "Wachtwoord gewijzigd.", "Uitloggen", "Goedendag", "Verificatiecode", "Bevestigen", "De code is onjuist.", "Wachtwoord vergeten?", "Bedrijf",
		"Kaartnummer", "Naam op kaart", "Vervaldatum (MM/JJ)", "Maand", "Jaar", "Beveiligingscode", "Betalen", "Betaald, dank u", "Voornaam", "Achternaam", "Straat", "Huisnummer", "Plaats", "Postcode", "Land", "Telefoonnummer", "Geboortedatum", "Dag"},
	"pl": {"Nazwa użytkownika", "Adres e-mail", "Hasło", "Powtórz hasło", "Zaloguj się", "Załóż konto", "Nowy?", "Obecne hasło", "Nowe hasło", "Powtórz nowe hasło", "Zmień hasło", "Dalej", "Nieprawidłowe dane logowania.", "Błąd: hasło musi mieć co najmniej %d znaków.", "Błąd: hasła nie są takie same.", "Błąd: konto już istnieje.", "Hasło zostało zmienione.", "Wyloguj", "Dzień dobry", "Kod weryfikacyjny", "Potwierdź", "Błędne kod.", "Nie pamiętasz hasła?", "Kod firmy",
		"Numer karty", "Posiadacz karty", "Data ważności (MM/RR)", "Miesiąc", "Rok", "Kod zabezpieczający", "Zapłać", "Zapłacono, dziękujemy", "Imię", "Nazwisko", "Ulica", "Numer domu", "Miasto", "Kod pocztowy", "Kraj zamieszkania", "Numer telefonu", "Data urodzenia", "Dzień"},
	"da": {"Brugernavn", "E-mailadresse", "Adgangskode", "Gentag adgangskode", "Log ind", "Opret konto", "Ny her?", "Nuværende adgangskode", "Ny adgangskode", "Gentag ny adgangskode", "Skift adgangskode", "Næste", "Forkert e-mailadresse eller adgangskode.", "Ugyldig: mindst %d tegn.", "Ugyldig: adgangskoderne er forskellige.", "Fejl: ugyldig, kontoen findes allerede.", "Adgangskoden er ændret.", "Log ud", "Goddag", "Bekræftelseskode", "Bekræft", "Forkert kode.", "Glemt adgangskode?", "Firma",
		"Kortnummer", "Kortholder", "Udløbsdato (MM/ÅÅ)", "Måned", "År", "Kontrolcifre", "Betal", "Betalt, tak", "Fornavn", "Efternavn", "Vejnavn", "Husnummer", "By", "Postnummer", "Land", "Telefonnummer", "Fødselsdato", "Dag"},
	"ja": {"ユーザーID", "メールアドレス", "パスワード", "パスワード（確認）", "ログイン", "新規登録", "初めての方", "現在のパスワード", "新しいパスワード", "新しいパスワード（確認）", "パスワードを変更", "次へ", "メールアドレスまたはパスワードが正しくありません。", "エラー：%d文字以上にしてください。", "パスワードが一致しません。", "エラー：登録済みです。", "パスワードが変更されました。", "ログアウト", "こんにちは", "認証コード", "確認", "コードが正しくありません。", "パスワードを忘れた方", "会社",
		"カード番号", "カード名義", "有効期限 (MM/YY)", "月", "年", "セキュリティコード", "支払う", "ありがとうございました", "名", "姓", "住所", "番地", "市区町村", "郵便番号", "国", "電話番号", "生年月日", "日"},
}
