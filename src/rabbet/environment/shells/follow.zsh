# Rabbet: the environment of the project that you are in. By the shell alone; no program is started.
_rabbet_places='@PLACES@'
_rabbet_follow() {
    local folder=$PWD name place found=
    while [[ -n $folder ]]; do
        if [[ -r $folder/.venv/rabbet.id ]]; then
            read -r name < $folder/.venv/rabbet.id
            [[ $name == *[^0-9a-f]* || -z $name ]] && name=none
            if [[ -r $_rabbet_places/$name ]]; then
                read -r place < $_rabbet_places/$name
                [[ $place == $folder/.venv ]] && found=$place
            fi
            break
        fi
        folder=${folder%/*}
    done
    [[ $found == "$_rabbet_followed" ]] && return
    if [[ -n $_rabbet_followed ]]; then
        path=(${path:#$_rabbet_followed/bin})
        PROMPT=${PROMPT#"$_rabbet_shown"}
        unset RABBET_ENVIRONMENT
        _rabbet_followed= _rabbet_shown=
    fi
    if [[ -n $found && -z $RABBET_ENVIRONMENT ]]; then
        _rabbet_followed=$found
        name=${${found%/.venv}##*/}
        _rabbet_shown="${name//[^A-Za-z0-9._-]/?}» "
        path=($found/bin $path)
        PROMPT=$_rabbet_shown$PROMPT
        export RABBET_ENVIRONMENT=$found
    fi
    rehash
}
autoload -Uz add-zsh-hook
add-zsh-hook chpwd _rabbet_follow
_rabbet_follow
