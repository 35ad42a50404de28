# Enter this environment: dot-source this file from PowerShell. `leave` puts everything back.
if ($env:RABBET_ENVIRONMENT) {
    Write-Error "already inside ${env:RABBET_ENVIRONMENT}: leave it first"
} elseif (-not (Test-Path -LiteralPath (Join-Path $PSScriptRoot 'python'))) {
    Write-Error "the interpreter of ${PSScriptRoot} is gone; to mend it: rabbet recreate"
} else {
    $env:RABBET_ENVIRONMENT = (Resolve-Path -LiteralPath (Join-Path $PSScriptRoot '..')).Path
    $global:_rabbet_path = $env:PATH
    $global:_rabbet_prompt = $function:prompt
    $env:PATH = (Join-Path $env:RABBET_ENVIRONMENT 'bin') + [IO.Path]::PathSeparator + $env:PATH
    function global:prompt {
        # Of the folder's name only what means nothing to a terminal is shown.
        $name = (Split-Path -Leaf (Split-Path -LiteralPath $env:RABBET_ENVIRONMENT)) -replace '[^\w .-]', '?'
        $name + [char]0xBB + ' ' + (& $global:_rabbet_prompt)
    }
    function global:leave {
        $env:PATH = $global:_rabbet_path
        ${function:global:prompt} = $global:_rabbet_prompt
        Remove-Item Env:RABBET_ENVIRONMENT
        Remove-Variable -Scope Global -Name _rabbet_path
        Remove-Variable -Scope Global -Name _rabbet_prompt
        Remove-Item Function:leave
    }
}
