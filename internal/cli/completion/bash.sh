# Completion of yardbroom in bash. It needs no other package.
#   source <(yardbroom completion bash)      in ~/.bashrc

_yardbroom() {
    local line kind
    COMPREPLY=()
    {
        IFS= read -r kind
        while IFS= read -r line; do
            COMPREPLY+=("$line")
        done
    } < <("${1/#\~/$HOME}" complete bash "${COMP_LINE:0:COMP_POINT}" "$2" "${COMP_TYPE:-9}" 2>/dev/null)
    # Files where a file is wanted, nothing else where it is not.
    if [[ $kind == files ]]; then
        compopt -o default 2>/dev/null
    fi
}

complete -F _yardbroom yardbroom
