# Completion of knothole in fish: knothole completion fish > ~/.config/fish/completions/knothole.fish
function __knothole_words
    set -l words (commandline -opc)
    set -l last (commandline -ct)
    for line in (knothole completion words $words[2..-1] "$last" 2>/dev/null)
        if test "$line" = ":files"
            __fish_complete_path "$last"
        else
            echo $line
        end
    end
end
complete -c knothole -f -a '(__knothole_words)'
