# Completion for fish: "tidyhull complete" says what a word may become.
function __tidyhull_complete
    set -l typed (commandline -opc)
    set -l last (commandline -ct)
    tidyhull complete -- $typed[2..-1] "$last" 2>/dev/null
    if test $status -eq 3
        __fish_complete_path "$last"
    end
end
complete -c tidyhull -f -a '(__tidyhull_complete)'
