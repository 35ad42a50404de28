# Rabbet: the environment of the project that you are in. By the shell alone; no program is started.
_rabbet_places='@PLACES@'
_rabbet_follow() {
    [ "$PWD" = "$_rabbet_seen" ] && return
    _rabbet_seen=$PWD
    local folder=$PWD mark name place found=
    while [ -n "$folder" ]; do
        mark=$folder/.venv/rabbet.id
        # A clone may hold a link, a pipe or a file without end in its place.
        if [ -f "$mark" ] && [ ! -L "$mark" ] && [ -r "$mark" ]; then
            IFS= read -r -d '' -n 40 name < "$mark"
            name=${name%%$'\n'*}
            case $name in *[!0-9a-f]*) name= ;; esac
            if [ ${#name} -eq 32 ] && [ -f "$_rabbet_places/$name" ]; then
                IFS= read -r place < "$_rabbet_places/$name"
                [ "$place" = "$folder/.venv" ] && found=$place
            fi
            break
        fi
        folder=${folder%/*}
    done
    case $found in *:*) found= ;; esac
    [ "$found" = "$_rabbet_followed" ] && return
    if [ -n "$_rabbet_followed" ]; then
        PATH=:$PATH:
        PATH=${PATH/":$_rabbet_followed/bin:"/:}
        PATH=${PATH/":$_rabbet_followed/bin/elsewhere:"/:}
        PATH=${PATH#:} PATH=${PATH%:}
        PS1=${PS1#"$_rabbet_shown"}
        unset RABBET_ENVIRONMENT
        _rabbet_followed= _rabbet_shown=
    fi
    if [ -n "$found" ] && [ -z "$RABBET_ENVIRONMENT" ]; then
        _rabbet_followed=$found
        name=${found%/.venv}
        name=${name##*/}
        _rabbet_shown="${name//[^A-Za-z0-9._-]/?}» "
        PATH=$found/bin:$found/bin/elsewhere:$PATH
        PS1=$_rabbet_shown$PS1
        export RABBET_ENVIRONMENT=$found
    fi
    hash -r
}
case $PROMPT_COMMAND in *_rabbet_follow*) ;; *) PROMPT_COMMAND="_rabbet_follow${PROMPT_COMMAND:+;$PROMPT_COMMAND}" ;; esac
