using Microsoft.AspNetCore.DataProtection.EntityFrameworkCore;
using Microsoft.AspNetCore.Identity;
using Microsoft.AspNetCore.Identity.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore;

namespace Imbrek.Data;

/// <summary>All that Imbrek keeps, on PostgreSQL: the only state that server processes share.</summary>
public sealed class ImbrekContext(DbContextOptions<ImbrekContext> options)
    : IdentityDbContext<Person>(options), IDataProtectionKeyContext
{
    public DbSet<FleetVersionRow> FleetVersions => Set<FleetVersionRow>();

    public DbSet<SetRow> Sets => Set<SetRow>();

    public DbSet<CopyRow> Copies => Set<CopyRow>();

    /// <summary>Stretches of lag of replicas.</summary>
    public DbSet<LagRow> Lag => Set<LagRow>();

    /// <summary>What is known of replicas beside their lag.</summary>
    public DbSet<ReplicaNoteRow> ReplicaNotes => Set<ReplicaNoteRow>();

    public DbSet<MarkerRow> Markers => Set<MarkerRow>();

    public DbSet<IncidentRow> Incidents => Set<IncidentRow>();

    public DbSet<RunRow> Runs => Set<RunRow>();

    /// <summary>What people decided about steps of runs.</summary>
    public DbSet<DecisionRow> Decisions => Set<DecisionRow>();

    /// <summary>Lines of the runs' logs.</summary>
    public DbSet<RunLineRow> RunLines => Set<RunLineRow>();

    public DbSet<LedgerRow> Ledger => Set<LedgerRow>();

    public DbSet<ProofRow> Proofs => Set<ProofRow>();

    public DbSet<PaceRow> Paces => Set<PaceRow>();

    public DbSet<HappeningRow> Happenings => Set<HappeningRow>();

    /// <summary>Who decides what starts.</summary>
    public DbSet<DispatchRow> Dispatches => Set<DispatchRow>();

    public DbSet<PlanVersionRow> PlanVersions => Set<PlanVersionRow>();

    public DbSet<PauseRow> Pauses => Set<PauseRow>();

    public DbSet<VersionRow> Versions => Set<VersionRow>();

    public DbSet<InventoryRow> Inventories => Set<InventoryRow>();

    /// <summary>Changes as named scripts.</summary>
    public DbSet<ChangeRow> Changes => Set<ChangeRow>();

    public DbSet<DatedDrillRow> DatedDrills => Set<DatedDrillRow>();

    public DbSet<NoticeRow> Notices => Set<NoticeRow>();

    /// <summary>Real clusters.</summary>
    public DbSet<ClusterRow> Clusters => Set<ClusterRow>();

    /// <summary>Folders that stores and hosts use.</summary>
    public DbSet<FolderRow> Folders => Set<FolderRow>();

    public DbSet<DataProtectionKey> DataProtectionKeys => Set<DataProtectionKey>();

    /// <summary>Sessions of people signed in.</summary>
    public DbSet<SessionRow> Sessions => Set<SessionRow>();

    /// <summary>Tokens of scripts.</summary>
    public DbSet<TokenRow> Tokens => Set<TokenRow>();

    /// <summary>One-time addresses.</summary>
    public DbSet<InvitationRow> Invitations => Set<InvitationRow>();

    /// <summary>What this installation is.</summary>
    public DbSet<InstallationRow> Installations => Set<InstallationRow>();

    /// <inheritdoc/>
    protected override void OnModelCreating(ModelBuilder builder)
    {
        base.OnModelCreating(builder);
        builder.HasPostgresExtension("pg_trgm");
        builder.Entity<Person>().ToTable("people");
        builder.Entity<IdentityRole>().ToTable("roles");
        builder.Entity<IdentityUserRole<string>>().ToTable("people_roles");
        builder.Entity<IdentityUserClaim<string>>().ToTable("people_claims");
        builder.Entity<IdentityUserLogin<string>>().ToTable("people_logins");
        builder.Entity<IdentityUserToken<string>>().ToTable("people_tokens");
        builder.Entity<IdentityRoleClaim<string>>().ToTable("role_claims");

        builder.Entity<SessionRow>(e =>
        {
            e.ToTable("sessions");
            e.HasIndex(r => r.PersonId);
            e.HasIndex(r => r.EndsAt);
        });
        builder.Entity<TokenRow>(e =>
        {
            e.ToTable("tokens");
            e.HasIndex(r => r.Hash).IsUnique();
        });
        builder.Entity<InvitationRow>(e => e.ToTable("invitations"));
        builder.Entity<InstallationRow>(e =>
        {
            e.ToTable("installation");
            e.Property(r => r.Id).ValueGeneratedNever();
        });
        builder.Entity<FleetVersionRow>(e =>
        {
            e.ToTable("fleet_versions").HasKey(r => r.Number);
            e.Property(r => r.Document).HasColumnType("jsonb");
        });
        builder.Entity<SetRow>(e => e.ToTable("backup_sets").HasKey(r => new { r.Database, r.Id }));
        builder.Entity<CopyRow>(e =>
        {
            e.ToTable("backup_copies").HasKey(r => new { r.Database, r.SetId, r.Store });
            e.HasOne<SetRow>().WithMany().HasForeignKey(r => new { r.Database, r.SetId });
        });
        builder.Entity<LagRow>(e =>
        {
            e.ToTable("replica_lag").HasKey(r => new { r.Replica, r.From });
            e.HasIndex(r => r.To);
        });
        builder.Entity<ReplicaNoteRow>(e => e.ToTable("replica_notes").HasKey(r => r.Replica));
        builder.Entity<MarkerRow>(e =>
        {
            e.ToTable("markers");
            e.HasIndex(r => new { r.Database, r.At });
        });
        builder.Entity<IncidentRow>(e =>
        {
            e.ToTable("incidents");
            e.HasIndex(r => new { r.Database, r.At });
        });
        builder.Entity<LedgerRow>(e =>
        {
            e.ToTable("ledger").HasKey(r => r.Number);
            e.Property(r => r.Number).ValueGeneratedNever();

            // Kept as text, not jsonb: it is hashed byte for byte.
            e.Property(r => r.Body).HasColumnType("text");
            e.HasIndex(r => new { r.Database, r.Number });
        });
        builder.Entity<ProofRow>(e =>
        {
            e.ToTable("proofs");
            e.HasIndex(r => new { r.Database, r.At });
        });
        builder.Entity<PaceRow>(e =>
        {
            e.ToTable("paces");
            e.HasIndex(r => r.Database);
        });
        builder.Entity<HappeningRow>(e =>
        {
            e.ToTable("happenings");
            e.HasIndex(r => r.At);
            e.HasIndex(r => new { r.Database, r.At });
        });
        builder.Entity<DispatchRow>(e =>
        {
            e.ToTable("dispatch");
            e.Property(r => r.Id).ValueGeneratedNever();
        });
        builder.Entity<PlanVersionRow>(e =>
        {
            e.ToTable("plan_versions").HasKey(r => new { r.Plan, r.Number });
            e.Property(r => r.Document).HasColumnType("jsonb");
        });
        builder.Entity<RunRow>(e =>
        {
            e.ToTable("runs");
            e.Ignore(r => r.StateIs);
            e.Property(r => r.Question).HasColumnType("jsonb");
            e.Property(r => r.Steps).HasColumnType("jsonb");
            e.Property(r => r.Result).HasColumnType("jsonb");
            foreach (var flag in new[] { nameof(RunRow.OutsideChain), nameof(RunRow.NoWayBack) })
            {
                e.Property<bool>(flag).HasDefaultValue(false);
            }

            e.Property(r => r.Fence).HasDefaultValue(0L);
            e.Property(r => r.Said).HasDefaultValue(0);
            e.Property(r => r.Heard).HasDefaultValue(0);

            // One run for each time a task was due on a database: the database decides, whoever starts it.
            e.HasIndex(r => new { r.Plan, r.Task, r.Database, r.Due, r.AfterId, r.AskedBy }).IsUnique().AreNullsDistinct(false).HasFilter("plan is not null").HasDatabaseName("ix_runs_occurrence");
            e.HasIndex(r => new { r.Due, r.Id });
            e.HasIndex(r => new { r.Database, r.Due });
            e.HasIndex(r => new { r.State, r.Due });
            e.HasIndex(r => r.Ended);
            e.HasIndex(r => new { r.Database, r.Ended }).HasFilter("kind = 'drill'").HasDatabaseName("ix_runs_drills");

            // Two people who restore to the same target at once: one wins.
            e.HasIndex(r => r.Claim).IsUnique().HasFilter("claim is not null").HasDatabaseName("ix_runs_claim");

            // What is done on a copy, or follows a run: of a copy that is brought on by log every minute there are thousands.
            e.HasIndex(r => new { r.AfterId, r.Due }).HasFilter("after_id is not null").HasDatabaseName("ix_runs_after");

            // What stands until a day.
            e.HasIndex(r => r.Until).HasFilter("until is not null and claim is not null").HasDatabaseName("ix_runs_until");

            // What is asked of the process that runs the plans, by any process.
            e.HasIndex(r => r.Id).HasFilter("steps is null and (state = 0 and asked_by is not null or state < 4 and cancelled_by is not null)").HasDatabaseName("ix_runs_asked");

            // What any process may take up.
            e.HasIndex(r => r.Due).HasFilter("steps is not null and state < 4").HasDatabaseName("ix_runs_open");

            // A million runs are searched for a word through their trigrams, not one by one.
            e.Property(r => r.Search).HasComputedColumnSql("lower(database || ' ' || coalesce(task, kind) || ' ' || coalesce(claim, '') || ' ' || coalesce(set_id, '') || ' ' || coalesce(note, ''))", stored: true);
            e.HasIndex(r => r.Search).HasMethod("gin").HasOperators("gin_trgm_ops");
        });
        builder.Entity<DecisionRow>(e => e.ToTable("run_decisions").HasKey(r => new { r.RunId, r.Step, r.Round }));
        builder.Entity<RunLineRow>(e =>
        {
            e.ToTable("run_lines");
            e.HasIndex(r => r.RunId);
        });
        builder.Entity<PauseRow>(e => e.ToTable("pauses"));
        builder.Entity<VersionRow>(e =>
        {
            e.ToTable("versions").HasKey(v => v.Number);
            e.Property(v => v.Number).ValueGeneratedNever();
            e.HasIndex(v => new { v.Engine, v.Version }).IsUnique();
        });
        builder.Entity<InventoryRow>(e =>
        {
            e.ToTable("inventories").HasKey(r => r.Host);
            e.Property(r => r.Answer).HasColumnType("jsonb");
            e.Property(r => r.Before).HasColumnType("jsonb");
        });
        builder.Entity<ChangeRow>(e => e.ToTable("changes").Property(c => c.Body).HasColumnType("jsonb"));
        builder.Entity<DatedDrillRow>(e =>
        {
            e.ToTable("dated_drills");
            e.HasIndex(r => r.At);
        });
        builder.Entity<ClusterRow>(e =>
        {
            e.ToTable("clusters").HasKey(r => r.Database);
            e.Property(r => r.Document).HasColumnType("jsonb");
            e.Property(r => r.Received).HasColumnType("jsonb");
        });
        builder.Entity<FolderRow>(e => e.ToTable("folders").HasKey(r => new { r.Kind, r.Id }));
        builder.Entity<NoticeRow>(e =>
        {
            e.ToTable("notices");
            e.HasIndex(r => new { r.GroupKey, r.LastAt });
        });
    }
}
