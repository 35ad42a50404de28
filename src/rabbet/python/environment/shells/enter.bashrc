# What `rabbet enter` starts bash with: your own settings, then the environment.
if [ -r ~/.bashrc ]; then
    . ~/.bashrc
fi
. "$(dirname -- "${BASH_SOURCE[0]}")/enter.sh"
