# Completion for bash: "tidyhull complete" says what a word may become.
_tidyhull() {
	local typed=${COMP_LINE:0:COMP_POINT} words last before output code line
	read -ra words <<<"$typed"
	[[ $typed == *[[:space:]] ]] && words+=("")
	last=${words[-1]}
	output=$(tidyhull complete -- "${words[@]:1}" 2>/dev/null)
	code=$?
	# Bash takes words apart at these, and wants the last part only.
	before=${last%"${last##*[=:]}"}
	COMPREPLY=()
	while IFS= read -r line; do
		line=${line%%$'\t'*}
		[ -n "$line" ] && COMPREPLY+=("${line#"$before"}")
	done <<<"$output"
	if [ $code = 3 ]; then
		while IFS= read -r line; do
			COMPREPLY+=("$line")
		done < <(compgen -f -- "${last#"$before"}")
		compopt -o filenames 2>/dev/null
	fi
	[[ ${#COMPREPLY[@]} = 1 && ${COMPREPLY[0]} == *[=:] ]] &&
		compopt -o nospace 2>/dev/null
	return 0
}
complete -F _tidyhull tidyhull
