package autofill

import "strings"

// Role is what a field is for: an autofill field name of the WHATWG HTML standard
// (section "Autofill"), or one of ours.
type Role string

// The roles that have to do with logins.
const (
	Username        Role = "username"
	CurrentPassword Role = "current-password"
	NewPassword     Role = "new-password"
	OneTimeCode     Role = "one-time-code"
)

// The roles of payment cards.
const (
	CardName       Role = "cc-name"
	CardGivenName  Role = "cc-given-name"
	CardFamilyName Role = "cc-family-name"
	CardNumber     Role = "cc-number"
	CardExpiry     Role = "cc-exp"
	CardMonth      Role = "cc-exp-month"
	CardYear       Role = "cc-exp-year"
	CardCode       Role = "cc-csc"
	CardType       Role = "cc-type"
)

// The roles of personal details.
const (
	Name           Role = "name"
	Prefix         Role = "honorific-prefix"
	GivenName      Role = "given-name"
	MiddleName     Role = "additional-name"
	FamilyName     Role = "family-name"
	Suffix         Role = "honorific-suffix"
	Nickname       Role = "nickname"
	Organization   Role = "organization"
	JobTitle       Role = "organization-title"
	Street         Role = "street-address"
	Line1          Role = "address-line1"
	Line2          Role = "address-line2"
	Line3          Role = "address-line3"
	HouseNumber    Role = "house-number" // ours: the standard has no name for it
	Region         Role = "address-level1"
	Town           Role = "address-level2"
	District       Role = "address-level3"
	Postcode       Role = "postal-code"
	Country        Role = "country"
	CountryName    Role = "country-name"
	Telephone      Role = "tel"
	TelCountry     Role = "tel-country-code"
	TelNational    Role = "tel-national"
	TelArea        Role = "tel-area-code"
	TelLocal       Role = "tel-local"
	Email          Role = "email"
	Birthday       Role = "bday"
	BirthDay       Role = "bday-day"
	BirthMonth     Role = "bday-month"
	BirthYear      Role = "bday-year"
	Sex            Role = "sex"
	Website        Role = "url"
	Language       Role = "language"
	Messages       Role = "impp"
	cardAdditional Role = "cc-additional-name"
)

// Card reports whether the role is of a payment card.
func (r Role) Card() bool { return strings.HasPrefix(string(r), "cc-") }

// Login reports whether the role has to do with a login.
func (r Role) Login() bool {
	switch r {
	case Username, CurrentPassword, NewPassword, OneTimeCode:
		return true
	}
	return false
}

// Details reports whether the role is of personal details.
func (r Role) Details() bool { return r != "" && !r.Login() && !r.Card() }

// roleWords are the words for roles of cards and details (common practice; from memory).
var roleWords = []struct {
	role  Role
	words string
}{
	{
		CardNumber,
		`card number|cardnumber|card no|card num|cardnum|cardno|cc number|ccnumber|cc num|ccnum|ccno|cc no|
		credit card number|debit card number|card number without spaces|pan|numéro de carte|numéro de la carte|
		n de carte|~kartennummer|número de tarjeta|número de la tarjeta|numero carta|numero di carta|
		numero della carta|número do cartão|~kaartnummer|~kortnummer|kortin numero|numer karty|номер карты|
		kart numarası|αριθμός κάρτας|~カード番号|~卡号|~信用卡號碼|~카드번호|~카드 번호`,
	},
	{
		CardName,
		`name on card|name on the card|cardholder|card holder|cardholder name|card holder name|
		cardholder s name|cc name|ccname|card name|cc owner|card owner|name as it appears on the card|titulaire|
		titulaire de la carte|nom sur la carte|karteninhaber|name auf der karte|titular|titular de la tarjeta|
		nombre en la tarjeta|titolare|titolare della carta|nome sulla carta|nome no cartão|titular do cartão|
		kaarthouder|naam op kaart|naam op de kaart|kortholder|kortindehaver|kortinnehavare|kortholderens navn|
		imię i nazwisko na karcie|posiadacz karty|владелец карты|имя на карте|~カード名義|~名義人|~持卡人|~카드 소유자`,
	},
	{
		CardExpiry,
		`expiry|expiry date|expires|expires on|expiration|expiration date|exp|exp date|expdate|card expiry|
		card expiration|cc exp|ccexp|valid until|valid thru|valid through|good until|good through|mm yy|mm yyyy|
		mm aa|mm aaaa|mm jj|mm jjjj|mm åå|mm gg|mm rr|mm rrrr|мм гг|date d expiration|expire le|expire fin|
		date de validité|~ablaufdatum|gültig bis|gültigkeit|~verfallsdatum|caducidad|fecha de caducidad|
		fecha de vencimiento|vencimiento|válida hasta|scadenza|data di scadenza|validade|data de validade|
		vervaldatum|geldig tot|udløb|udløbsdato|utløpsdato|giltig till|utgångsdatum|voimassa|data ważności|
		ważna do|срок действия|действительна до|son kullanma tarihi|~有効期限|~有效期|~到期|~유효기간|~만료`,
	},
	{
		CardMonth,
		`expiry month|expiration month|exp month|expmonth|card month|cc month|ccmonth|cc exp month|exp mm|
		month of expiry|mois d expiration|ablaufmonat|monat ablauf|mes de caducidad|mese di scadenza|
		mês de validade|vervalmaand|udløbsmåned|utgångsmånad|miesiąc ważności|~有効期限 月`,
	},
	{
		CardYear,
		`expiry year|expiration year|exp year|expyear|card year|cc year|ccyear|cc exp year|exp yy|exp yyyy|
		year of expiry|année d expiration|ablaufjahr|año de caducidad|anno di scadenza|ano de validade|
		vervaljaar|udløbsår|utgångsår|rok ważności|~有効期限 年`,
	},
	{
		CardCode,
		`cvv|cvc|csc|cvv 2|cvc 2|cid|cvn|card code|card verification|card verification code|
		card verification number|card verification value|card security code|security code|security number|
		verification number|cc csc|cccsc|cc cvc|cc cvv|3 digits|three digits|last three digits|
		number on the back|cryptogramme|cryptogramme visuel|code de sécurité|prüfnummer|prüfziffer|
		kartenprüfnummer|sicherheitscode|código de seguridad|codice di sicurezza|código de segurança|
		beveiligingscode|kontrolcifre|sikkerhedskode|säkerhetskod|sikkerhetskode|kod zabezpieczający|
		код безопасности|код на обороте|~セキュリティコード|~安全码|~보안 코드`,
	},
	{
		CardType,
		`card type|cardtype|cc type|cctype|card brand|type of card|type de carte|kartentyp|kartenart|
		tipo de tarjeta|tipo di carta|tipo de cartão|kaarttype|korttype|korttyp|rodzaj karty|тип карты`,
	},
	{
		Name,
		`name|full name|fullname|your name|real name|your full name|first and last name|contact name|recipient|
		recipient name|deliver to|addressee|nom complet|nom et prénom|prénom et nom|votre nom|destinataire|
		vollständiger name|vor und nachname|vorname und nachname|ihr name|nombre completo|nombre y apellidos|
		tu nombre|nome completo|nome e cognome|il tuo nome|nome e sobrenome|volledige naam|uw naam|naam|navn|
		fulde navn|namn|fullständigt namn|fullt navn|koko nimi|nimi|imię i nazwisko|фио|полное имя|ваше имя|
		jméno a příjmení|ad soyad|ονοματεπώνυμο|~氏名|~お名前|~姓名|~이름|~성명`,
	},
	{
		GivenName,
		`first name|firstname|fname|given name|givenname|forename|given names|first names|christian name|prénom|
		prenom|~vorname|nombre|nombre de pila|nome|primeiro nome|voornaam|fornavn|förnamn|etunimi|imię|имя|
		jméno|όνομα|given`,
	},
	{
		MiddleName,
		`middle name|middle names|middlename|mname|middle initial|second name|deuxième prénom|zweiter vorname|
		segundo nombre|secondo nome|nome do meio|tussenvoegsel|mellemnavn|mellannamn|mellomnavn|drugie imię|
		отчество`,
	},
	{
		FamilyName,
		`last name|lastname|lname|surname|family name|familyname|nom de famille|nom|~nachname|familienname|
		apellido|apellidos|primer apellido|cognome|sobrenome|apelido|achternaam|efternavn|efternamn|etternavn|
		sukunimi|nazwisko|фамилия|příjmení|soyad|επώνυμο|~名前 姓|~苗字|family|last`,
	},
	{
		Prefix,
		`title|salutation|honorific|form of address|civilité|anrede|tratamiento|titolo|tratamento|aanhef|
		tiltale|титул|обращение|~敬称|prefix`,
	},
	{Suffix, `suffix|name suffix`},
	{Nickname, `display name|called|what should we call you|preferred name|known as|spitzname|surnom|apodo`},
	{
		Organization,
		`company|company name|organisation|organization|organisation name|organization name|business name|
		business|employer|firm|société|entreprise|raison sociale|~firma|unternehmen|empresa|compañía|azienda|
		società|ragione sociale|bedrijf|bedrijfsnaam|virksomhed|firmanavn|företag|företagsnamn|bedriftens navn|
		yritys|nazwa firmy|организация|компания|~会社|~公司|~회사`,
	},
	{
		JobTitle,
		`job title|jobtitle|position|occupation|fonction|poste|beruf|puesto|cargo|posizione|functie|stilling|
		stanowisko|должность`,
	},
	{
		Street,
		`street address|streetaddress|street|address|postal address|home address|delivery address|
		shipping address|mailing address|residential address|your address|adresse|rue|adresse postale|
		adresse de livraison|straße|strasse|anschrift|straße und hausnummer|strasse und hausnummer|
		straße hausnummer|strasse nr|straße nr|dirección|calle|domicilio|calle y número|indirizzo|
		indirizzo e numero civico|endereço|rua|morada|logradouro|straat|straat en huisnummer|adres|straatnaam|
		vej|gade|vejnavn|adress|gatuadress|gate|gateadresse|katuosoite|ulica|ulica i numer|адрес|улица|ulice|
		adres satırı|διεύθυνση|~住所|~番地|~地址|~街道|~주소|~도로명`,
	},
	{
		Line1,
		`address line 1|address 1|addressline 1|address line one|addr 1|line 1|street 1|street line 1|
		first line of address|adresse 1|adresse ligne 1|adresszeile 1|dirección 1|dirección línea 1|indirizzo 1|
		endereço 1|adresregel 1|adresselinje 1|adressrad 1|adres 1|адрес строка 1|~住所 1`,
	},
	{
		Line2,
		`address line 2|address 2|addressline 2|address line two|addr 2|line 2|street 2|street line 2|
		second line of address|apartment|apt|apartment suite unit|apartment suite etc|apartment number|suite|
		unit|flat|flat number|building|floor|complément d adresse|adresse 2|bâtiment|appartement|adresszusatz|
		adresszeile 2|dirección 2|piso|piso puerta|indirizzo 2|interno|complemento|endereço 2|adresregel 2|
		toevoeging|adresselinje 2|adressrad 2|adres 2|mieszkanie|nr mieszkania|квартира|~住所 2|~建物名|~상세주소`,
	},
	{Line3, `address line 3|address 3|addressline 3|addr 3|line 3|adresszeile 3|adresse 3`},
	{
		HouseNumber,
		`house number|house no|housenumber|house name or number|street number|streetnumber|building number|
		civic number|numéro de rue|numéro de voie|~hausnummer|hausnr|nr|número exterior|número de casa|
		numero civico|civico|huisnummer|huisnr|husnummer|talonumero|nr domu|numer domu|дом|номер дома|
		číslo popisné`,
	},
	{
		Town,
		`city|town|city town|town city|town or city|city or town|locality|municipality|suburb|post town|ville|
		commune|localité|stadt|ort|wohnort|ort stadt|ciudad|población|localidad|municipio|città|comune|cidade|
		município|plaats|woonplaats|stad|poststed|ort postort|postort|kaupunki|postitoimipaikka|miasto|
		miejscowość|город|населенный пункт|město|şehir|πόλη|~市区町村|~城市|~도시|~시`,
	},
	{District, `district|borough|neighbourhood|neighborhood|barrio|bairro|quartier|stadtteil|bydel|ilçe|район|~区`},
	{
		Region,
		`state|province|region|county|state province|state province region|state region|state or province|
		county state|prefecture|canton|état|département|région|bundesland|kanton|bundesstaat|provincia|estado|
		comunidad autónoma|regione|distrito|estado uf|uf|provincie|delstat|fylke|län|maakunta|województwo|
		область|регион|край|kraj|νομός|~都道府県|~省|~省份|~州`,
	},
	{
		Postcode,
		`postcode|post code|postal code|postalcode|zip|zip code|zipcode|zip postal code|postcode zip|
		zip postcode|postcode or zip|code postal|codepostal|~postleitzahl|plz|código postal|codigo postal|cp|
		cap|codice postale|c a p|cep|código de endereço postal|postnummer|postnr|postinumero|kod pocztowy|
		индекс|почтовый индекс|psč|posta kodu|ταχυδρομικός κώδικας|eircode|~郵便番号|~邮编|~邮政编码|~郵遞區號|~우편번호`,
	},
	{
		Country,
		`country|country region|country or region|country code|nation|pays|land|país|pais|paese|nazione|stato|
		maa|kraj zamieszkania|państwo|страна|země|ülke|χώρα|~国|~国家|~國家|~국가`,
	},
	{
		Telephone,
		`phone|telephone|phone number|telephone number|phone no|tel|tel no|mobile|mobile number|mobile phone|
		mobile no|cell|cell phone|cellphone|contact number|daytime phone|fax|téléphone|numéro de téléphone|
		portable|~telefon|~telefonnummer|handy|handynummer|mobilnummer|rufnummer|teléfono|móvil|
		número de teléfono|celular|telefono|cellulare|numero di telefono|telefone|telemóvel|telefoonnummer|
		telefoon|mobiel|mobielnummer|~mobiltelefon|puhelin|puhelinnumero|numer telefonu|komórka|телефон|
		номер телефона|мобильный|τηλέφωνο|~電話|~携帯|~电话|~手机|~電話號碼|~전화|~휴대폰`,
	},
	{
		TelCountry,
		`dial code|dialling code|dialing code|calling code|phone country code|phone code|tel country code|
		phone prefix|country calling code|indicatif|indicatif pays|vorwahl land|ländervorwahl|prefijo|
		prefisso internazionale|código do país|landnummer|landekode|landskod|numer kierunkowy|код страны|~国番号`,
	},
	{
		TelArea,
		`area code|phone area code|telareacode|std code|vorwahl|ortsvorwahl|prefisso|ddd|netnummer|riktnummer|
		код города|~市外局番`,
	},
	{TelLocal, `local number|phone local|subscriber number`},
	{
		Birthday,
		`date of birth|birthday|birth date|birthdate|dob|born|born on|date de naissance|né le|~geburtsdatum|
		~geburtstag|fecha de nacimiento|data di nascita|data de nascimento|geboortedatum|fødselsdato|
		födelsedatum|syntymäaika|data urodzenia|дата рождения|datum narození|doğum tarihi|ημερομηνία γέννησης|
		~生年月日|~出生日期|~생년월일`,
	},
	{
		BirthDay,
		`birth day|bday day|dob day|day of birth|birthday day|jour de naissance|geburtstag tag|
		día de nacimiento|giorno di nascita|dia de nascimento`,
	},
	{
		BirthMonth,
		`birth month|bday month|dob month|month of birth|birthday month|mois de naissance|geburtsmonat|
		mes de nacimiento|mese di nascita|mês de nascimento`,
	},
	{
		BirthYear,
		`birth year|bday year|dob year|year of birth|birthday year|année de naissance|geburtsjahr|
		año de nacimiento|anno di nascita|ano de nascimento|~出生年`,
	},
	{
		Sex,
		`gender|sex|sexe|genre|geschlecht|sexo|género|sesso|genere|geslacht|køn|kön|kjønn|sukupuoli|płeć|пол|
		pohlaví|cinsiyet|~性別|~性别|~성별`,
	},
	{Website, `website|web site|homepage|home page|web page|url|site web|webseite|sitio web|sito web|página web`},
}

// tokenRole returns the role that an autocomplete attribute names (WHATWG HTML,
// "Autofill": the last token but webauthn is the field's name), and the part of a
// checkout that it is in: "shipping", "billing" or none.
func tokenRole(autocomplete string) (role Role, part string, off bool) {
	for _, t := range strings.Fields(strings.ToLower(autocomplete)) {
		switch t {
		case "on", "webauthn", "home", "work", "mobile", "fax", "pager":
		case "off", "nope", "none", "false", "disabled":
			off = true
		case "shipping", "billing":
			part = t
		default:
			if r := Role(t); known[r] {
				role = r
			}
		}
	}
	if role == cardAdditional {
		role = ""
	}
	if role == "tel-local-prefix" || role == "tel-local-suffix" {
		role = TelLocal
	}
	return role, part, off
}

var known = func() map[Role]bool {
	out := map[Role]bool{
		Username:               true,
		CurrentPassword:        true,
		NewPassword:            true,
		OneTimeCode:            true,
		CardGivenName:          true,
		CardFamilyName:         true,
		cardAdditional:         true,
		TelNational:            true,
		CountryName:            true,
		Language:               true,
		Messages:               true,
		Email:                  true,
		"address-level4":       true,
		"transaction-currency": true,
		"transaction-amount":   true,
		"photo":                true,
		"tel-extension":        true,
	}
	for _, w := range roleWords {
		out[w.role] = true
	}
	delete(out, HouseNumber)
	return out
}()
