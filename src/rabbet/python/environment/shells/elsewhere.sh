#!/bin/sh
# Stands in for a program that installs libraries, and that this environment does not have: it belongs to another Python
# on PATH, and would install there. Rabbet put this file here.
name=$(basename -- "$0")
libraries= first=1
for word in "$@"; do
    case $word in
    -* | *[!A-Za-z0-9._\[\],\<\>=!~-]*) ;;
    *)
        if [ -z "$first" ]; then
            case $word in
            *[!A-Za-z0-9._-]*) libraries="$libraries '$word'" ;;
            *) libraries="$libraries $word" ;;
            esac
        fi
        first=
        ;;
    esac
done
{
    printf "error: '%s' belongs to another Python, and would install there\n" "$name"
    printf '  because this environment is made from the lock, and has no such program\n'
    if [ -n "$libraries" ]; then
        printf '  note    to try a library for one command: rabbet run --try NAME -- COMMAND\n'
        printf '  try     rabbet declare%s --now\n' "$libraries"
    else
        printf '  try     rabbet explain\n'
    fi
} >&2
exit 2
