# Rabbet: the environment of the project that you are in. By the shell alone; no program is started.
set -g _rabbet_places '@PLACES@'
set -g _rabbet_followed ''
function _rabbet_follow --on-variable PWD
    set -l folder $PWD
    set -l found ''
    while test -n "$folder"
        set -l mark "$folder/.venv/rabbet.id"
        # A clone may hold a link, a pipe or a file without end in its place.
        if test -f "$mark"; and not test -L "$mark"; and test -r "$mark"
            read -z -n 40 -l name < "$mark"
            set name (string split -m1 \n -- "$name")[1]
            if string match -qr '^[0-9a-f]{32}$' -- "$name"; and test -f "$_rabbet_places/$name"
                read -l place < "$_rabbet_places/$name"
                test "$place" = "$folder/.venv"; and set found "$place"
            end
            break
        end
        set folder (string replace -r '/[^/]*$' '' -- "$folder" | string collect)
    end
    string match -q '*:*' -- "$found"; and set found ''
    test "$found" = "$_rabbet_followed"; and return
    if test -n "$_rabbet_followed"
        set -l kept
        for one in $PATH
            contains -- "$one" "$_rabbet_followed/bin" "$_rabbet_followed/bin/elsewhere"; or set -a kept $one
        end
        set -gx PATH $kept
        set -e RABBET_ENVIRONMENT
        set -g _rabbet_followed ''
    end
    if test -n "$found"; and not set -q RABBET_ENVIRONMENT
        set -g _rabbet_followed $found
        set -gx PATH "$found/bin" "$found/bin/elsewhere" $PATH
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
