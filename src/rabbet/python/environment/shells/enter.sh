# Enter this environment: source this file from bash or zsh. `leave` puts everything back.
_rabbet_root="$(CDPATH= cd -- "$(dirname -- "${BASH_SOURCE[0]:-$0}")/.." && pwd)"
_rabbet_parted=
case "$_rabbet_root" in *:*) _rabbet_parted=1 ;; esac
if [ -n "${RABBET_ENVIRONMENT-}" ]; then
    printf 'already inside %s: leave it first\n' "$RABBET_ENVIRONMENT" >&2
elif [ -n "$_rabbet_parted" ]; then
    printf 'this environment can not be entered: the name of its folder holds a ":", which parts PATH\n' >&2
elif [ ! -x "$_rabbet_root/bin/python" ]; then
    printf 'the interpreter of %s is gone; to mend it: rabbet recreate\n' "$_rabbet_root" >&2
else
    RABBET_ENVIRONMENT="$_rabbet_root"
    _rabbet_path="$PATH"
    _rabbet_prompt="${PS1-}"
    _rabbet_pythonhome="${PYTHONHOME-}"
    PATH="$RABBET_ENVIRONMENT/bin:$RABBET_ENVIRONMENT/bin/elsewhere:$PATH"
    # A prompt is evaluated: of the folder's name only what means nothing to a shell is shown in it.
    _rabbet_name="$(basename -- "$(dirname -- "$RABBET_ENVIRONMENT")")"
    PS1="${_rabbet_name//[^[:alnum:] ._-]/?}» ${PS1-}"
    unset _rabbet_name
    export RABBET_ENVIRONMENT PATH
    unset PYTHONHOME
    # What runtimes of other languages want: NAME=value, a line each.
    if [ -r "$RABBET_ENVIRONMENT/bin/enter.variables" ]; then
        while IFS= read -r _rabbet_line; do
            eval "_rabbet_was_${_rabbet_line%%=*}=\"\${${_rabbet_line%%=*}-}\""
            export "${_rabbet_line?}"
        done < "$RABBET_ENVIRONMENT/bin/enter.variables"
    fi
    leave() {
        if [ -r "$RABBET_ENVIRONMENT/bin/enter.variables" ]; then
            while IFS= read -r _rabbet_line; do
                _rabbet_line="${_rabbet_line%%=*}"
                eval "export $_rabbet_line=\"\$_rabbet_was_$_rabbet_line\""
                eval "[ -n \"\$$_rabbet_line\" ] || unset $_rabbet_line"
                unset "_rabbet_was_$_rabbet_line"
            done < "$RABBET_ENVIRONMENT/bin/enter.variables"
        fi
        PATH="$_rabbet_path"
        PS1="$_rabbet_prompt"
        if [ -n "$_rabbet_pythonhome" ]; then
            export PYTHONHOME="$_rabbet_pythonhome"
        fi
        unset RABBET_ENVIRONMENT _rabbet_path _rabbet_prompt _rabbet_pythonhome _rabbet_line
        unset -f leave
        hash -r 2>/dev/null
    }
    hash -r 2>/dev/null
fi
unset _rabbet_root _rabbet_parted
