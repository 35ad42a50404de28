# Enter this environment: dot-source this file from PowerShell. `leave` puts everything back.
if ($env:RABBET_ENVIRONMENT) {
    Write-Error "already inside ${env:RABBET_ENVIRONMENT}: leave it first"
} elseif ($PSScriptRoot.Contains([IO.Path]::PathSeparator)) {
    Write-Error "this environment can not be entered: the name of its folder holds what parts PATH"
} elseif (-not (Test-Path -LiteralPath (Join-Path $PSScriptRoot 'python'))) {
    Write-Error "the interpreter of ${PSScriptRoot} is gone; to mend it: rabbet recreate"
} else {
    $env:RABBET_ENVIRONMENT = (Resolve-Path -LiteralPath (Join-Path $PSScriptRoot '..')).Path
    $global:_rabbet_path = $env:PATH
    $global:_rabbet_prompt = $function:prompt
    $env:PATH = @((Join-Path $env:RABBET_ENVIRONMENT 'bin'), (Join-Path $env:RABBET_ENVIRONMENT 'bin/elsewhere'), $env:PATH) -join [IO.Path]::PathSeparator
    # What runtimes of other languages want: NAME=value, a line each.
    $global:_rabbet_was = @{}
    $variables = Join-Path $PSScriptRoot 'enter.variables'
    if (Test-Path -LiteralPath $variables) {
        foreach ($line in Get-Content -LiteralPath $variables) {
            $name, $value = $line -split '=', 2
            $global:_rabbet_was[$name] = [Environment]::GetEnvironmentVariable($name)
            [Environment]::SetEnvironmentVariable($name, $value)
        }
    }
    function global:prompt {
        # Of the folder's name only what means nothing to a terminal is shown.
        $name = (Split-Path -Leaf (Split-Path -LiteralPath $env:RABBET_ENVIRONMENT)) -replace '[^\w .-]', '?'
        $name + [char]0xBB + ' ' + (& $global:_rabbet_prompt)
    }
    function global:leave {
        $env:PATH = $global:_rabbet_path
        foreach ($name in $global:_rabbet_was.Keys) {
            [Environment]::SetEnvironmentVariable($name, $global:_rabbet_was[$name])
        }
        Remove-Variable -Scope Global -Name _rabbet_was
        ${function:global:prompt} = $global:_rabbet_prompt
        Remove-Item Env:RABBET_ENVIRONMENT
        Remove-Variable -Scope Global -Name _rabbet_path
        Remove-Variable -Scope Global -Name _rabbet_prompt
        Remove-Item Function:leave
    }
}
