# Enter this environment: source this file from fish. `leave` puts everything back.
set -l root (realpath (dirname (status filename) | string collect)/.. | string collect)
if set -q RABBET_ENVIRONMENT
    printf 'already inside %s: leave it first\n' "$RABBET_ENVIRONMENT" >&2
else if string match -q '*:*' -- "$root"
    printf 'this environment can not be entered: the name of its folder holds a ":", which parts PATH\n' >&2
else if not test -x "$root/bin/python"
    printf 'the interpreter of %s is gone; to mend it: rabbet recreate\n' "$root" >&2
else
    set -gx RABBET_ENVIRONMENT "$root"
    set -g _rabbet_path $PATH
    set -gx PATH "$RABBET_ENVIRONMENT/bin" "$RABBET_ENVIRONMENT/bin/elsewhere" $PATH
    # What runtimes of other languages want: NAME=value, a line each.
    if test -r "$RABBET_ENVIRONMENT/bin/enter.variables"
        while read -l line
            set -l pair (string split -m1 = -- $line)
            set -q $pair[1]; and set -g _rabbet_was_$pair[1] $$pair[1]
            set -gx $pair[1] $pair[2]
        end <"$RABBET_ENVIRONMENT/bin/enter.variables"
    end
    if functions -q fish_prompt
        functions -c fish_prompt _rabbet_prompt
    end
    function fish_prompt
        # Of the folder's name only what means nothing to a terminal is shown.
        set -l name (basename (dirname "$RABBET_ENVIRONMENT" | string collect) | string collect)
        printf '%s» ' (string replace -r -a '[^\\w .-]' '?' -- "$name" | string collect)
        if functions -q _rabbet_prompt
            _rabbet_prompt
        end
    end
    function leave
        if test -r "$RABBET_ENVIRONMENT/bin/enter.variables"
            while read -l line
                set -l name (string split -m1 = -- $line)[1]
                set -l was _rabbet_was_$name
                set -e $name
                if set -q $was
                    set -gx $name $$was
                    set -e $was
                end
            end <"$RABBET_ENVIRONMENT/bin/enter.variables"
        end
        set -gx PATH $_rabbet_path
        functions -e fish_prompt
        if functions -q _rabbet_prompt
            functions -c _rabbet_prompt fish_prompt
            functions -e _rabbet_prompt
        end
        set -e RABBET_ENVIRONMENT
        set -e _rabbet_path
        functions -e leave
    end
end
