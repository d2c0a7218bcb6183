import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("jobs", "0005_token"),
    ]

    operations = [
        migrations.CreateModel(
            name="Capture",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=120)),
                ("file", models.CharField(max_length=64, unique=True)),
                ("step_id", models.CharField(blank=True, max_length=40)),
                ("created", models.DateTimeField(auto_now_add=True)),
                (
                    "job",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="captures", to="jobs.job"
                    ),
                ),
            ],
        ),
    ]
