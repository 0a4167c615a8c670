package autofill

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatPagesSay has what sites announce after something was sent, in many languages (written from memory, without
// looking at the words that are known), and what they mean by it; the form is there again with what was refused.
func TestWhatPagesSay(t *testing.T) {
	for says, want := range map[string]Outcome{
		"Sorry, we don't recognise those details. Check them and try again.": Refused,
		"The email or password you entered is incorrect.":                    Refused,
		"Invalid login, please try again":                                    Refused,
		"Wrong password. 2 attempts left.":                                   Refused,
		"Your account is locked after too many attempts":                     Refused,
		"Benutzername oder Passwort ist nicht korrekt.":                      Refused,
		"Anmeldung fehlgeschlagen":                                           Refused,
		"Identifiant ou mot de passe incorrect":                              Refused,
		"Vos identifiants sont incorrects.":                                  Refused,
		"Usuario o contraseña incorrectos":                                   Refused,
		"Credenziali non valide":                                             Refused,
		"Gebruikersnaam of wachtwoord is onjuist":                            Refused,
		"Het wachtwoord klopt niet":                                          Refused,
		"Forkert brugernavn eller adgangskode":                               Refused,
		"Felaktigt användarnamn eller lösenord":                              Refused,
		"Feil brukernavn eller passord":                                      Refused,
		"Virheellinen käyttäjätunnus tai salasana":                           Refused,
		"Nieprawidłowy login lub hasło":                                      Refused,
		"Nesprávné uživatelské jméno nebo heslo":                             Refused,
		"Hibás felhasználónév vagy jelszó":                                   Refused,
		"Parolă incorectă":                                                   Refused,
		"Pogrešna lozinka":                                                   Refused,
		"Kullanıcı adı veya şifre hatalı":                                    Refused,
		"Λάθος όνομα χρήστη ή κωδικός":                                       Refused,
		"Неверный логин или пароль":                                          Refused,
		"Невірний логін або пароль":                                          Refused,
		"Usuário ou senha inválidos":                                         Refused,
		"Sai mật khẩu hoặc tên đăng nhập không đúng":                         Refused,
		"Kata sandi salah":                                                   Refused,
		"שם המשתמש או הסיסמה שגויים":                                         Refused,
		"اسم المستخدم أو كلمة المرور غير صحيحة":                              Refused,
		"รหัสผ่านไม่ถูกต้อง":                                                 Refused,
		"用户名或密码错误":                                                           Refused,
		"メールアドレスまたはパスワードが正しくありません":                                           Refused,
		"아이디 또는 비밀번호가 올바르지 않습니다":                                             Refused,
	} {
		back := []Reading{{Kind: SignIn}}
		assert.Equal(t, want, Judge(SignIn, Snapshot{Alerts: says}, back), says)
	}
	for says, want := range map[string]Outcome{
		"Your password has been updated.":                     Taken,
		"Password changed successfully":                       Taken,
		"Ihr Passwort wurde erfolgreich geändert.":            Taken,
		"Votre mot de passe a bien été modifié":               Taken,
		"Tu contraseña ha sido actualizada":                   Taken,
		"La password è stata modificata":                      Taken,
		"Je wachtwoord is gewijzigd":                          Taken,
		"Ditt lösenord har ändrats":                           Taken,
		"Passordet ditt er endret":                            Taken,
		"Salasana on vaihdettu":                               Taken,
		"Hasło zostało zmienione":                             Taken,
		"Heslo bylo změněno":                                  Taken,
		"A jelszó megváltozott":                               Taken,
		"Şifreniz değiştirildi":                               Taken,
		"Пароль успешно изменён":                              Taken,
		"Senha alterada com sucesso":                          Taken,
		"Đổi mật khẩu thành công":                             Taken,
		"הסיסמה שונתה":                                        Taken,
		"تم تغيير كلمة المرور بنجاح":                          Taken,
		"密码修改成功":                                              Taken,
		"The current password is wrong":                       Refused,
		"The new password was used recently. Choose another.": Refused,
		"The passwords do not match":                          Refused,
		"Die Passwörter stimmen nicht überein":                Refused,
		"Les mots de passe ne correspondent pas":              Refused,
		"Das neue Passwort muss mindestens 12 Zeichen haben":  Refused,
		"Le mot de passe doit contenir au moins 8 caractères": Refused,
		"Las contraseñas no coinciden":                        Refused,
		"Пароль слишком короткий":                             Refused,
		"Hasło musi zawierać cyfrę":                           Refused,
	} {
		assert.Equal(t, want, Judge(Change, Snapshot{Alerts: says}, []Reading{{Kind: Change}}), says)
	}
	for _, says := range []string{
		"We use cookies.", "Loading", "3 items in your cart", "Your session ends in 5 minutes", "New: dark mode",
		"Wir verwenden Cookies", "Nous utilisons des cookies",
	} {
		assert.Equal(t, Waiting, Judge(SignIn, Snapshot{Alerts: says}, []Reading{{Kind: SignIn}}), says)
		assert.Equal(t, Taken, Judge(SignIn, Snapshot{Alerts: says}, nil), says)
	}
}
