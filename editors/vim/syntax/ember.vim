" Syntax of Emberwort's definitions.
if exists("b:current_syntax")
  finish
endif

syntax keyword emberItem link import enum flags record table message channel
syntax keyword emberType bool f16 f32 f64 compact text ascii bytes time
syntax match   emberType "\<\%([ui]\|hex\)[1-9][0-9]\?\>"
syntax keyword emberWord revision byte_order little big id from device host every on answered by within line added in
syntax keyword emberWord optional or none counter at be le retired spare bit bits byte step exactly key value of frame else
syntax keyword emberWord growing read write kept medium limit stuffing cobs slip hdlc escape gap characters negated same as inverted for all lines lf crlf status running node packet select port can_id size extended
syntax keyword emberWord sync body address sequence length over skipping start final xor rest
syntax keyword emberWord uart udp tcp spi i2c can lora stream duty overhead tx
syntax keyword emberConstant true false
syntax match   emberNumber "\<\%(0x[0-9A-Fa-f_]\+\|0b[01_]\+\|[0-9][0-9_]*\%(\.[0-9][0-9_]*\)\?\)\>"
syntax match   emberName "\<[A-Z][A-Za-z0-9]*\>"
syntax match   emberField "\<[a-z_][a-z0-9_]*\ze\s*:"
syntax region  emberString start=+"+ skip=+\\.+ end=+"+ oneline
syntax match   emberComment "#.*$" contains=emberTodo
syntax match   emberDoc "##.*$" contains=emberTodo
syntax keyword emberTodo contained TODO FIXME

highlight default link emberItem Keyword
highlight default link emberType Type
highlight default link emberWord Statement
highlight default link emberConstant Boolean
highlight default link emberNumber Number
highlight default link emberName Identifier
highlight default link emberField Identifier
highlight default link emberString String
highlight default link emberComment Comment
highlight default link emberDoc SpecialComment
highlight default link emberTodo Todo

setlocal commentstring=#\ %s
let b:current_syntax = "ember"
