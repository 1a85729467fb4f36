package main

// bashWords is what the completion for bash needs of the package bash-completion, for where that is not installed: bash
// splits words at "=" and ":", and here they are put together again.
const bashWords = `if ! declare -F _get_comp_words_by_ref >/dev/null 2>&1; then
    _get_comp_words_by_ref() {
        local rest=$COMP_LINE i n=-1 word gap
        words=()
        for ((i = 0; i <= COMP_CWORD; i++)); do
            word=${COMP_WORDS[i]}
            if [[ -n $word ]]; then gap=${rest%%"$word"*}; else gap=$rest; fi
            rest=${rest#"$gap$word"}
            if ((n >= 0)) && [[ -z $gap && ($word == [=:]* || ${words[n]} == *[=:]) ]]; then
                words[n]+=$word
            else
                words[++n]=$word
            fi
        done
        cword=$n cur=${words[n]} prev=
        if ((n > 0)); then prev=${words[n - 1]}; fi
    }
fi
`
