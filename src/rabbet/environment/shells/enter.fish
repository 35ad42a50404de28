# Enter this environment: source this file from fish. `leave` puts everything back.
set -l root (realpath (dirname (status filename))/..)
if set -q RABBET_ENVIRONMENT
    echo "already inside $RABBET_ENVIRONMENT: leave it first" >&2
else if not test -x $root/bin/python
    echo "the interpreter of $root is gone; to mend it: rabbet recreate" >&2
else
    set -gx RABBET_ENVIRONMENT $root
    set -g _rabbet_path $PATH
    set -gx PATH $RABBET_ENVIRONMENT/bin $PATH
    if functions -q fish_prompt
        functions -c fish_prompt _rabbet_prompt
    end
    function fish_prompt
        printf '%s» ' (basename (dirname $RABBET_ENVIRONMENT))
        if functions -q _rabbet_prompt
            _rabbet_prompt
        end
    end
    function leave
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
