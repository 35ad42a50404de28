# Rabbet: the environment of the project that you are in. By the shell alone; no program is started.
$global:RabbetPlaces = '@PLACES@'
$global:RabbetFollowed = ''
$global:RabbetPromptBefore = $function:prompt
function global:RabbetFollow {
    $folder = (Get-Location).ProviderPath
    $found = ''
    while ($folder) {
        $mark = [IO.Path]::Combine($folder, '.venv', 'rabbet.id')
        if ([IO.File]::Exists($mark)) {
            $name = [IO.File]::ReadAllText($mark).Trim()
            $note = [IO.Path]::Combine($global:RabbetPlaces, $name)
            $own = [IO.Path]::Combine($folder, '.venv')
            if (($name -match '^[0-9a-f]+$') -and [IO.File]::Exists($note)) {
                if ([IO.File]::ReadAllText($note).Trim() -eq $own) { $found = $own }
            }
            break
        }
        $folder = [IO.Path]::GetDirectoryName($folder)
    }
    if ($found -eq $global:RabbetFollowed) { return }
    $between = [IO.Path]::PathSeparator
    if ($global:RabbetFollowed) {
        $gone = [IO.Path]::Combine($global:RabbetFollowed, 'bin')
        $env:PATH = ($env:PATH.Split($between) | Where-Object { $_ -ne $gone }) -join $between
        Remove-Item Env:RABBET_ENVIRONMENT -ErrorAction SilentlyContinue
        $global:RabbetFollowed = ''
    }
    if ($found -and -not $env:RABBET_ENVIRONMENT) {
        $global:RabbetFollowed = $found
        $env:PATH = [IO.Path]::Combine($found, 'bin') + $between + $env:PATH
        $env:RABBET_ENVIRONMENT = $found
    }
}
function global:prompt {
    RabbetFollow
    if ($global:RabbetFollowed) { "$(Split-Path -Leaf (Split-Path $global:RabbetFollowed))» " + (& $global:RabbetPromptBefore) }
    else { & $global:RabbetPromptBefore }
}
