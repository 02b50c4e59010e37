" Vim syntax of Isodyne texts (*.dyne). Made by `isodyne export vim`.
if exists("b:current_syntax")
  finish
endif

syn case match
syn keyword dyneReserved and or not implies is if then else true false
syn keyword dyneClause act active actuator after against allocated always arm as at bar basic_event becomes bench between bits broken by bytes cables campaign changes channel choice choose clear clock column compose condition controller core counter counts coverage cubic cut disarm do draw drift each edge either element end entry eventually every exit expect expectation extended failure_modes falls fault field figure filter fixed for force frame freeze from function gate given hand harness hazard held hold id in inject input inputs inverted jitter keep lamp last lasting latency least let level library limit limited limits linear load loss lost map measure memory messages method model modes module must never node noise none noticed of off offset on once onto open output outputs outside over pairs panel param parity part per play port press private probability pulses pulsing rack ramp range rate rated reads ready record release repeat repeated replace requirement restart review rises row safe scenario schedule sensor set setting settled shares show signed since slide slot solve source spare start state stays step stop stuck swap table tags terminal the through times to together toggle top topic trace track unit until use values vary wait when whenever while wiring with within word words wraps writes
syn keyword dyneFunction abs acos all any asin atan atan2 ceil clamp cos delay dot exp floor from_kelvin kelvin log max mean min mod norm normal pick round sign sin sqrt sum tan uniform
syn keyword dyneConstant time pi true false
syn match dyneNumber "\<\d\+\(\.\d\+\)\?\([eE][+-]\?\d\+\)\?\>"
syn match dyneType "\<[A-Z]\w*\>"
syn match dyneComment "#.*$"
syn match dyneDocument "##.*$"
syn region dyneText start=+"+ end=+"+ oneline

hi def link dyneReserved Operator
hi def link dyneClause Keyword
hi def link dyneFunction Function
hi def link dyneConstant Constant
hi def link dyneNumber Number
hi def link dyneType Type
hi def link dyneComment Comment
hi def link dyneDocument SpecialComment
hi def link dyneText String

let b:current_syntax = "dyne"
