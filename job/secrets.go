package job

import (
	"os"
	"path/filepath"

	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/syntax/dotenv"
	"ligare/edit"
)

// SecretLine writes a server secret as a variable of a backend's environment.
func SecretLine(x shape.ServerSecret) string {
	return dotenv.Line(dotenv.Pair{Name: x.Env, Value: x.Value})
}

// SetSecrets sets server secrets in a file that only its owner may read, leaving everything else in it as it is. It gives
// the names of the variables.
func SetSecrets(to string, list []shape.ServerSecret) ([]string, error) {
	var pairs []dotenv.Pair
	names := []string{}
	for _, x := range list {
		pairs, names = append(pairs, dotenv.Pair{Name: x.Env, Value: x.Value}), append(names, x.Env)
	}
	was, err := os.ReadFile(to)
	if err != nil && !os.IsNotExist(err) {
		return nil, &Problem{What: "cannot read " + to, Err: unwrapPath(err)}
	}
	text, err := dotenv.Set(string(was), pairs)
	if err != nil {
		return nil, &Problem{What: to, Hint: "Correct the line named; nothing was written.", Err: err}
	}
	if err := edit.Secret(to, was, []byte(text)); err != nil {
		return nil, &Problem{What: "nothing was written", Hint: "Name an ordinary file in a folder that you may write to.", Err: err}
	}
	return names, nil
}

// OutsideTrees refuses a file inside an app's tree or a repository: server values never enter one.
func OutsideTrees(name string) error {
	abs, err := filepath.Abs(name)
	if err != nil {
		return err
	}
	if real, err := filepath.EvalSymlinks(filepath.Dir(abs)); err == nil {
		abs = filepath.Join(real, filepath.Base(abs))
	}
	for dir := filepath.Dir(abs); ; dir = filepath.Dir(dir) {
		for _, mark := range []string{binding.File, ".git"} {
			if _, err := os.Lstat(filepath.Join(dir, mark)); err == nil {
				return stop("Name a file elsewhere, or leave --to out and pipe the lines to where the backend's environment is kept.", "%s lies inside %s, which is a tree; server values never enter one", name, dir)
			}
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}
