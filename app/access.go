package app

// Access is all that opens a vault or brings it back, each by itself.
type Access struct {
	Sheets          *Sheets
	Second          *SecondPassphrase
	Authenticators  *Authenticators
	ForgottenMaster *ForgottenMaster
	Epochs          *Epochs
	FormerKeys      *FormerKeys
	Joiners         *Joiners
	Helpers         *HelpArranged
}

func newAccess(v *Vault) *Access {
	return &Access{
		Sheets: &Sheets{v}, Second: &SecondPassphrase{v}, Authenticators: &Authenticators{v},
		ForgottenMaster: &ForgottenMaster{vault: v}, Epochs: &Epochs{v}, FormerKeys: &FormerKeys{v},
		Joiners: &Joiners{vault: v}, Helpers: &HelpArranged{v},
	}
}
