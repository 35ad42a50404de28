# Rabbet: the environment of the project that you are in. By the shell alone; no program is started.
_rabbet_places='@PLACES@'
zmodload zsh/system
_rabbet_follow() {
    emulate -L zsh
    local folder=$PWD mark name place found=
    while [[ -n $folder ]]; do
        mark=$folder/.venv/rabbet.id
        # A clone may hold a link, a pipe or a file without end in its place.
        if [[ -f $mark && ! -L $mark && -r $mark ]]; then
            name=
            sysread -s 40 name < $mark
            name=${name%%$'\n'*}
            if [[ $#name -eq 32 && $name != *[^0-9a-f]* && -f $_rabbet_places/$name ]]; then
                IFS= read -r place < $_rabbet_places/$name
                [[ $place == $folder/.venv ]] && found=$place
            fi
            break
        fi
        folder=${folder%/*}
    done
    [[ $found == *:* ]] && found=
    [[ $found == "$_rabbet_followed" ]] && return
    if [[ -n $_rabbet_followed ]]; then
        path=("${(@)path:#$_rabbet_followed/bin}")
        path=("${(@)path:#$_rabbet_followed/bin/elsewhere}")
        PROMPT=${PROMPT#"$_rabbet_shown"}
        unset RABBET_ENVIRONMENT
        _rabbet_followed= _rabbet_shown=
    fi
    if [[ -n $found && -z $RABBET_ENVIRONMENT ]]; then
        _rabbet_followed=$found
        name=${${found%/.venv}##*/}
        _rabbet_shown="${name//[^A-Za-z0-9._-]/?}» "
        path=($found/bin $found/bin/elsewhere "${(@)path}")
        PROMPT=$_rabbet_shown$PROMPT
        export RABBET_ENVIRONMENT=$found
    fi
    rehash
}
autoload -Uz add-zsh-hook
add-zsh-hook chpwd _rabbet_follow
_rabbet_follow
