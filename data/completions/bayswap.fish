# Completion of bayswap for fish. The program itself says what can come next.
function __bayswap_complete
    set -l before (commandline -opc)
    set -l current (commandline -ct)
    for line in (bayswap __complete (count $before) $before "$current" 2>/dev/null)
        switch $line
            case :files
                __fish_complete_path "$current"
            case :folders
                __fish_complete_directories "$current"
            case '*'
                echo $line
        end
    end
end
complete -c bayswap -f -a '(__bayswap_complete)'
