# Completion of yardbroom in fish.
#   yardbroom completion fish > ~/.config/fish/completions/yardbroom.fish

function __yardbroom_complete
    set -l words (commandline -opc)
    set -l current (commandline -ct)
    set -l plain (string unescape -- $current 2>/dev/null)
    or set plain $current
    set -l found ($words[1] complete words $words $plain 2>/dev/null)
    if test "$found[1]" = files
        __fish_complete_path $current
    else
        printf '%s\n' $found[2..-1]
    end
end

complete -c yardbroom -e
complete -c yardbroom -f -a '(__yardbroom_complete)'
