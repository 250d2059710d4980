using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>
/// Values of credentials by their names. They come from the environment (<c>IMBREK_CREDENTIAL_</c> and the name) or from the file that
/// <c>IMBREK_CREDENTIALS</c> names, lines of <c>name=value</c> that nobody but its owner may read; they are looked up when they are needed, and kept nowhere.
/// </summary>
internal static class Credentials
{
    /// <summary>What is wrong with a name; null when nothing is.</summary>
    public static string? WhatIsWrong(string name) => InputBounds.WhatIsWrongWithId(name, 60);

    /// <summary>The value of a credential for whoever acts, null for none.</summary>
    /// <exception cref="DriverException">It cannot be had.</exception>
    public static string? ForDriver(string? name)
    {
        try
        {
            return name is null ? null : Of(name);
        }
        catch (CredentialException e)
        {
            throw new DriverException(DriverProblem.Refused, e.Message);
        }
    }

    /// <summary>The value of a credential.</summary>
    /// <exception cref="CredentialException">There is none of that name, or others may read the file.</exception>
    public static string Of(string name)
    {
        if (WhatIsWrong(name) is { } wrong)
        {
            throw new CredentialException($"credential '{InputBounds.Quote(name)}' {wrong}");
        }

        if (Environment.GetEnvironmentVariable($"IMBREK_CREDENTIAL_{name.ToUpperInvariant().Replace('-', '_').Replace('.', '_')}") is { Length: > 0 } value)
        {
            return value;
        }

        if (Environment.GetEnvironmentVariable("IMBREK_CREDENTIALS") is { Length: > 0 } file)
        {
            try
            {
                if ((File.GetUnixFileMode(file) & (UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.OtherRead | UnixFileMode.OtherWrite)) != 0)
                {
                    throw new CredentialException($"the file of credentials may be read by others than its owner: chmod 600 {file}");
                }

                foreach (var line in File.ReadLines(file))
                {
                    if (line.StartsWith(name, StringComparison.Ordinal) && line.Length > name.Length && line[name.Length] == '=')
                    {
                        return line[(name.Length + 1)..];
                    }
                }
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw new CredentialException($"the file of credentials cannot be read: {e.Message}");
            }
        }

        throw new CredentialException($"this server has no credential named '{name}': set IMBREK_CREDENTIAL_{name.ToUpperInvariant().Replace('-', '_').Replace('.', '_')}, or name it in the file of IMBREK_CREDENTIALS");
    }
}
