autocmd BufRead,BufNewFile *.ember setfiletype ember
