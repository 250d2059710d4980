using System.CommandLine;
using System.Security.Cryptography;
using System.Text;
using Imbrek.Core.Evidence;

namespace Imbrek.Cli;

/// <summary><c>verify-ledger</c>: checks an exported ledger entry by entry, its head, who signed it, and whether it holds a head known from elsewhere.</summary>
internal static class VerifyLedgerCommand
{
    public static Command Create()
    {
        Argument<string> file = new("file") { Description = "The exported ledger (JSON Lines)." };
        Option<string?> key = new("--key") { Description = "The public key of the installation (PEM), as Evidence gives it: the head must be signed by it." };
        Option<string?> head = new("--head") { Description = "The hash of a head known from elsewhere: one of the entries must have it." };
        var command = new Command("verify-ledger", "Checks that an exported ledger is whole and unchanged.") { file, key, head };
        command.SetAction(p => Run(p.GetValue(file)!, p.GetValue(key), p.GetValue(head)));
        return command;
    }

    private static int Run(string path, string? keyFile, string? head)
    {
        if (head is not null && (head.Length != 64 || !head.All(char.IsAsciiHexDigitLower)))
        {
            throw new InputException("--head: expected the 64 lower-case hexadecimal digits of a hash");
        }

        using var key = keyFile is null ? null : ReadKey(keyFile);
        var check = new LedgerCheck(key, head);
        try
        {
            var number = 0;
            foreach (var line in File.ReadLines(path, new UTF8Encoding(false, throwOnInvalidBytes: true)))
            {
                number++;
                if (line.Length == 0)
                {
                    continue;
                }

                try
                {
                    check.AddLine(line);
                }
                catch (FormatException e)
                {
                    throw new InputException($"{path}:{number}: {e.Message}");
                }
            }
        }
        catch (DecoderFallbackException)
        {
            throw new InputException($"{path}: holds bytes that are not valid UTF-8");
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new InputException($"cannot read {path}: {e.Message}");
        }

        if (check.WhatIsWrong(needsHead: true) is { } wrong)
        {
            Console.Error.WriteLine($"imbrek: {path}: {wrong}");
            return 2;
        }

        var signedBy = key is not null ? $"signed by key {check.Head!.Key[..12]}…, as it should be"
            : check.Head is { } unsure ? $"its head says it is signed by key {unsure.Key[..Math.Min(12, unsure.Key.Length)]}…; --key FILE checks that"
            : "it has no head, but ends where --head says";
        Console.WriteLine(check.Entries == 0
            ? $"The ledger is empty; {signedBy}."
            : $"{check.Entries} entries hold, from {check.First!.At} to {check.Last!.At}; last hash {check.Last.Hash}; {signedBy}.");
        return 0;
    }

    private static ECDsa ReadKey(string path)
    {
        var key = ECDsa.Create();
        try
        {
            key.ImportFromPem(File.ReadAllText(path));
            return key;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or ArgumentException or CryptographicException)
        {
            key.Dispose();
            throw new InputException($"--key: {path} holds no public key (PEM): {e.Message}");
        }
    }
}
