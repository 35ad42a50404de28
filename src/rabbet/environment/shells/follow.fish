# Rabbet: the environment of the project that you are in. By the shell alone; no program is started.
set -g _rabbet_places '@PLACES@'
set -g _rabbet_followed ''
function _rabbet_follow --on-variable PWD
    set -l folder $PWD
    set -l found ''
    while test -n "$folder"
        if test -r "$folder/.venv/rabbet.id"
            read -l name < "$folder/.venv/rabbet.id"
            if string match -qr '^[0-9a-f]+$' -- "$name"; and test -r "$_rabbet_places/$name"
                read -l place < "$_rabbet_places/$name"
                test "$place" = "$folder/.venv"; and set found "$place"
            end
            break
        end
        set folder (string replace -r '/[^/]*$' '' -- "$folder")
    end
    test "$found" = "$_rabbet_followed"; and return
    if test -n "$_rabbet_followed"
        set -l kept
        for one in $PATH
            test "$one" != "$_rabbet_followed/bin"; and set -a kept $one
        end
        set -gx PATH $kept
        set -e RABBET_ENVIRONMENT
        set -g _rabbet_followed ''
    end
    if test -n "$found"; and not set -q RABBET_ENVIRONMENT
        set -g _rabbet_followed $found
        set -gx PATH "$found/bin" $PATH
        set -gx RABBET_ENVIRONMENT $found
    end
end
functions -q _rabbet_prompt_before; or functions -c fish_prompt _rabbet_prompt_before
function fish_prompt
    if test -n "$_rabbet_followed"
        set -l name (string replace -r '/\.venv$' '' -- $_rabbet_followed | string replace -r '.*/' '')
        printf '%s» ' (string replace -ra '[^A-Za-z0-9._-]' '?' -- $name)
    end
    _rabbet_prompt_before
end
_rabbet_follow
