using System.Security.Cryptography;
using Imbrek.Core.Evidence;
using Imbrek.Data;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Evidence;

/// <summary>
/// This installation and its signing key, made at its first start. The private part lies in a file (<c>--signing-key FILE</c>), or in PostgreSQL under
/// the keys that lie there too: then whoever can rewrite the whole database can sign anew, and only heads kept elsewhere tell.
/// </summary>
internal sealed class Installation(NpgsqlDataSource source, IDataProtectionProvider protection, IConfiguration configuration, IClock clock) : IDisposable
{
    private const long MakeLock = 0x6_4D_42_52_45_4B;
    private ECDsa? key;

    /// <summary>The public part of the key, as PEM.</summary>
    public string PublicKey => Key.ExportSubjectPublicKeyInfoPem();

    /// <summary>The fingerprint of the key.</summary>
    public string Fingerprint => LedgerHead.FingerprintOf(Key);

    private ECDsa Key => key ?? throw new InvalidOperationException("the installation was not opened");

    /// <summary>Reads the key, or makes it at the first start; and takes note that a demo is shown.</summary>
    /// <exception cref="InvalidOperationException">The key cannot be read, or is not the one of this installation.</exception>
    public async Task OpenAsync(bool demo, CancellationToken cancel)
    {
        var protector = protection.CreateProtector("imbrek.signing");
        await using var data = ImbrekDatabase.Context(source);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await data.Database.ExecuteSqlRawAsync($"select pg_advisory_xact_lock({MakeLock})", cancel);
        var row = await data.Installations.SingleOrDefaultAsync(cancel);
        var file = configuration["signing-key"];
        var made = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        if (row is null)
        {
            if (file is not null && File.Exists(file))
            {
                made.ImportFromPem(await File.ReadAllTextAsync(file, cancel));
            }
            else if (file is not null)
            {
                var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
                if (!OperatingSystem.IsWindows())
                {
                    options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
                }

                await using var to = new FileStream(file, options);
                await to.WriteAsync(System.Text.Encoding.UTF8.GetBytes(made.ExportPkcs8PrivateKeyPem()), cancel);
            }

            row = new InstallationRow { Id = 1, PublicKey = made.ExportSubjectPublicKeyInfoPem(), PrivateKey = file is null ? protector.Protect(made.ExportPkcs8PrivateKeyPem()) : null };
            data.Installations.Add(row);
        }
        else
        {
            made.ImportFromPem(row.PrivateKey is { } kept ? protector.Unprotect(kept)
                : file is not null ? await File.ReadAllTextAsync(file, cancel)
                : throw new InvalidOperationException("the signing key of this installation lies in a file: name it with --signing-key FILE"));
            if (made.ExportSubjectPublicKeyInfoPem() != row.PublicKey)
            {
                throw new InvalidOperationException("the signing key is not the one of this installation");
            }
        }

        row.ShowedDemo |= demo;
        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        key = made;
    }

    /// <summary>Signs where the ledger stands.</summary>
    public LedgerHead Head(LedgerEntry? last)
    {
        lock (Key)
        {
            return LedgerHead.Sign(last?.Number ?? 0, last?.Hash ?? LedgerEntry.Genesis, clock.GetCurrentInstant(), Key);
        }
    }

    /// <inheritdoc/>
    public void Dispose() => key?.Dispose();
}
