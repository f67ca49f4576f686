#compdef yardbroom
# Completion of yardbroom in zsh.
#   source <(yardbroom completion zsh)       in ~/.zshrc, after compinit

_yardbroom() {
    local line kind
    local -a values shown
    {
        IFS= read -r kind
        while IFS=$'\t' read -r value about; do
            values+=("$value")
            shown+=("$value${about:+  -- $about}")
        done
    } < <("${(Q)words[1]/#\~/$HOME}" complete words "${(@Q)words[1,CURRENT-1]}" "${(Q)PREFIX}" 2>/dev/null)
    if [[ $kind == files ]]; then
        _files
    elif (( $#values )); then
        compadd -l -M 'm:{[:lower:][:upper:]}={[:upper:][:lower:]}' -d shown -a -- values
    fi
}

if [[ ${funcstack[1]} == _yardbroom ]]; then
    _yardbroom "$@"
else
    compdef _yardbroom yardbroom
fi
