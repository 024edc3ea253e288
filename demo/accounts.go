package demo

// Account is somebody of the demo organisation who signs in.
type Account struct{ Role, Name, Title string }

// Accounts are one account for each role, the administrator first.
func Accounts() []Account {
	return []Account{
		{"administrator", "ines@brackwater.example", "Ines Duarte"},
		{"viewer", "sigrun@brackwater.example", "Sigrun Aasgaard"},
		{"author", "maren@brackwater.example", "Maren Lind"},
		{"approver", "tobias@brackwater.example", "Tobias Wrede"},
	}
}
