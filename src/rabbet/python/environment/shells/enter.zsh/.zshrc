# What `rabbet enter` starts zsh with: your own settings, then the environment.
_rabbet_file="${(%):-%x}"
ZDOTDIR="$RABBET_ZDOTDIR"
unset RABBET_ZDOTDIR
if [ -r "$ZDOTDIR/.zshrc" ]; then
    . "$ZDOTDIR/.zshrc"
fi
. "${_rabbet_file:h:h}/enter.sh"
unset _rabbet_file
